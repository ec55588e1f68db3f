"""The note of the last attempt to read: what became of it, though the disk be full or somebody be at it."""

from __future__ import annotations

import threading
from pathlib import Path
from typing import Any

import polars as pl
import pytest
from filelock import FileLock

from keymallet.core.base.problems import KeymalletError, fail
from keymallet.store import attempts
from keymallet.store.attempts import attempt, last_attempt
from tests.store.test_snapshot import save


def test_what_became_of_an_attempt(tmp_path: Path) -> None:
    """Nothing yet, made, failed, interrupted, a fault; each estate has a note of its own."""
    assert last_attempt(tmp_path, "e") is None
    with attempt(tmp_path, "e") as recorder:
        recorder.made("digest")
    assert last_attempt(tmp_path, "e").snapshot == "digest"  # type: ignore[union-attr]
    for error, told in (
        (fail("no file", file="a.csv"), "a.csv: no file"),
        (KeyboardInterrupt(), "it was interrupted"),
        (ZeroDivisionError(), "a fault of the program"),
    ):
        with pytest.raises(type(error)), attempt(tmp_path, "e"):
            raise error
        assert last_attempt(tmp_path, "e").failed == told  # type: ignore[union-attr]
    assert last_attempt(tmp_path, "f") is None
    assert all(file.stat().st_mode & 0o077 == 0 for file in tmp_path.iterdir())


def test_one_under_way_is_no_failure(tmp_path: Path) -> None:
    """It holds a lock for as long as it lives; another beside it is noted when it ends."""
    begun, go_on = threading.Event(), threading.Event()

    def slow() -> None:
        with attempt(tmp_path, "e") as recorder:
            begun.set()
            go_on.wait(10)
            recorder.made("slow")

    thread = threading.Thread(target=slow)
    thread.start()
    assert begun.wait(10)
    assert last_attempt(tmp_path, "e") is None
    with attempt(tmp_path, "e") as recorder:
        recorder.made("quick")
    go_on.set()
    thread.join(10)
    assert last_attempt(tmp_path, "e").snapshot == "slow"  # type: ignore[union-attr]


def test_who_only_asks_hides_no_failure(tmp_path: Path) -> None:
    """Two judgings at once: one holds the lock for a moment, and the other is told of the failure all the same."""
    with pytest.raises(KeymalletError), attempt(tmp_path, "e"):
        raise fail("no file")
    (note,) = tmp_path.glob("*.json")
    with FileLock(note.with_suffix(".lock")):
        assert last_attempt(tmp_path, "e").failed == "no file"  # type: ignore[union-attr]


def test_a_disk_that_is_full_does_not_hide_the_failure(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The note that is there has room of its own; without one, reading goes on all the same."""
    with attempt(tmp_path, "e") as recorder:
        recorder.made("digest")

    def full(*_: Any) -> None:
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(attempts, "write_whole", full)
    with pytest.raises(KeymalletError), attempt(tmp_path, "e"):
        raise fail("the snapshot cannot be written")
    assert last_attempt(tmp_path, "e").failed == "the snapshot cannot be written"  # type: ignore[union-attr]
    with attempt(tmp_path, "new"):
        pass
    with attempt(tmp_path / "a file" / "x", "new"):
        pass


def test_a_table_that_the_disk_does_not_take(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """The library says so in its own way: it is no fault of the program."""

    def full(*_: Any, **__: Any) -> None:
        raise pl.exceptions.ComputeError("underlying IO error: No space left on device (os error 28)")

    monkeypatch.setattr(pl.DataFrame, "write_parquet", full)
    with pytest.raises(KeymalletError, match="cannot be written: underlying IO error: No space left"):
        save(tmp_path)
