"""Snapshots: whole or not at all, and read back as they were."""

from __future__ import annotations

import json
import os
import shutil
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import polars as pl
import pytest

from keymallet.core.base.problems import KeymalletError
from keymallet.core.facts.reading import Reading
from keymallet.store import snapshot as store
from keymallet.store.newest import find_newest, newest_of
from keymallet.store.snapshot import FORMAT, Snapshot, read_snapshot, write_snapshot
from tests.support import AT, days_ago, evidence


def save(
    folder: Path, when: Any = AT, estate: str = "e", before: Snapshot | None = None, **facts: Any
) -> Snapshot:
    found = evidence(
        [{"kind": "person", "groups": ["a", "b"], "created": days_ago(5)} | facts],
        key=[{"of": 0, "key": "k1"}],
    )
    readings = [Reading("d", supply=found.supply["d"])]
    return write_snapshot(
        folder,
        version="1",
        estate=estate,
        before=before,
        organisation="O",
        clock="UTC",
        read_at=when,
        readings=readings,
        tables=found.tables,
    )


def test_what_is_written_is_read_back(tmp_path: Path) -> None:
    """Types included; columns that nobody supplied come back unknown; keys name their accounts."""
    found = save(tmp_path).evidence()
    account = found.tables["account"].row(0, named=True)
    assert (account["kind"], account["groups"], account["created"], account["mail"]) == (
        "person",
        ["a", "b"],
        days_ago(5),
        None,
    )
    assert isinstance(found.tables["account"].schema["kind"], pl.Enum)
    assert found.tables["key"]["account"].to_list() == ["d/a0"]
    assert found.supply["d"]["account"]["kind"] == "test"


def test_only_the_columns_asked_for_are_read(tmp_path: Path) -> None:
    """And the keys without which nothing can be told."""
    found = save(tmp_path).evidence({"account": {"enabled"}})
    assert set(found.tables) == {"account"}
    assert {"account", "source", "name", "enabled"} <= set(found.tables["account"].columns)
    assert "created" not in found.tables["account"].columns


def test_two_snapshots_of_one_instant_stand_side_by_side(tmp_path: Path) -> None:
    """Neither is overwritten; the one whose reading ended last is the newest, of whatever instant it tells."""
    folders = [save(tmp_path).folder.name for _ in range(11)]
    assert folders[:2] == ["2026-11-24T090000Z", "2026-11-24T090000Z-2"]
    newest = find_newest(tmp_path, "e", AT).snapshot
    assert newest and newest.folder.name == "2026-11-24T090000Z-11"
    later = save(tmp_path, days_ago(1))
    assert find_newest(tmp_path, "e", AT).snapshot == later


def test_names_of_folders_tell_nothing(tmp_path: Path) -> None:
    """A copy of an old one under a later name, one of another estate, one from the future: all passed over."""
    old = save(tmp_path)
    new = save(tmp_path, before=old)
    shutil.copytree(old.folder, tmp_path / "2036-01-01T000000Z")
    save(tmp_path, estate="f")
    save(tmp_path, datetime(2036, 1, 1, tzinfo=UTC), before=new)
    found = find_newest(tmp_path, "e", AT)
    assert found.snapshot == new
    assert (len(found.copies), len(found.of_others), len(found.from_future)) == (1, 1, 1)
    assert new.manifest.previous == old.digest and new.manifest.number == 2
    assert "another estate" in found.passed_over[0]


def test_only_one_from_the_future_is_refused(tmp_path: Path) -> None:
    """Judged at its own time, it is evidence."""
    save(tmp_path, datetime(2036, 1, 1, tzinfo=UTC))
    with pytest.raises(KeymalletError, match="from after now"):
        newest_of(tmp_path, "e", AT)
    assert newest_of(tmp_path, "e", datetime(2036, 1, 2, tzinfo=UTC)).snapshot


def test_what_might_be_the_newest_and_cannot_be_read_stops(tmp_path: Path) -> None:
    """Unless a later reading has passed over it, or it is of an older format and there is another."""
    kept = save(tmp_path)
    odd = tmp_path / "odd"
    shutil.copytree(kept.folder, odd)
    (odd / "manifest.json").write_text('{"format": 1}')
    assert newest_of(tmp_path, "e", AT).snapshot == kept
    (odd / "manifest.json").write_text("{")
    with pytest.raises(KeymalletError, match="cannot be read"):
        newest_of(tmp_path, "e", AT)


@pytest.mark.parametrize("moment", ["_write_table", "_write", "_free_place"])
def test_a_crash_leaves_the_earlier_snapshot_as_it_was(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, moment: str
) -> None:
    """Whenever it comes: while tables are written, the manifest, or before the move."""
    earlier = save(tmp_path)

    def crash(*_: object) -> None:
        raise MemoryError

    with monkeypatch.context() as patched, pytest.raises(MemoryError):
        patched.setattr(store, moment, crash)
        save(tmp_path)
    assert [entry.name for entry in tmp_path.iterdir()] == [earlier.folder.name]
    assert find_newest(tmp_path, "e", AT).snapshot == earlier


def test_an_unfinished_snapshot_does_not_count(tmp_path: Path) -> None:
    """What a killed process left behind is no evidence."""
    (tmp_path / ".unfinished-1").mkdir()
    (tmp_path / "2026-11-25T000000Z").mkdir()
    assert find_newest(tmp_path, "e", AT).snapshot is None
    assert find_newest(tmp_path / "nowhere", "e", AT).snapshot is None
    os.utime(tmp_path / ".unfinished-1", (0, 0))
    (tmp_path / ".unfinished-2").mkdir()
    save(tmp_path)
    assert [entry.name for entry in tmp_path.glob(".unfinished-*")] == [".unfinished-2"], (
        "only old ones are cleared away"
    )


def test_a_damaged_snapshot_is_told(tmp_path: Path) -> None:
    """With the file, and that reading again helps."""
    kept = save(tmp_path)
    (kept.folder / "key.parquet").write_bytes(b"PAR1 nonsense")
    with pytest.raises(KeymalletError, match="damaged"):
        kept.evidence()
    for text in (
        "{",
        '{"format": 99}',
        kept.folder.joinpath("manifest.json").read_text().replace(f'"format": {FORMAT}', '"format": 9'),
    ):
        (kept.folder / "manifest.json").write_text(text)
        with pytest.raises(KeymalletError):
            read_snapshot(kept.folder)
    with pytest.raises(KeymalletError, match="no snapshot"):
        read_snapshot(tmp_path)


def test_a_disk_that_does_not_take_it(tmp_path: Path) -> None:
    """A file where the folder should be is an error to be read, not a traceback."""
    (tmp_path / "file").write_text("")
    with pytest.raises(KeymalletError, match="cannot be written"):
        save(tmp_path / "file")


def test_the_digest_covers_everything(tmp_path: Path) -> None:
    """Other facts, another digest; the same facts, the same ones of their tables."""
    same = [save(tmp_path / name) for name in "ab"]
    assert same[0].manifest.tables == same[1].manifest.tables
    other = save(tmp_path / "c", kind="guest")
    assert other.manifest.tables["account"].digest != same[0].manifest.tables["account"].digest
    assert same[0].digest != other.digest


def test_a_table_that_was_changed_is_not_judged(tmp_path: Path) -> None:
    """Whoever can write the file must not turn a breach into none: its digest stands in the manifest."""
    kept = save(tmp_path)
    file = kept.folder / "account.parquet"
    frame = pl.read_parquet(file)
    for other in (frame.head(1), frame.reverse(), frame.with_columns(pl.lit(True).alias("enabled"))):
        other.write_parquet(file)
        with pytest.raises(KeymalletError, match="damaged"):
            kept.evidence()
    file.unlink()
    with pytest.raises(KeymalletError, match="damaged"):
        kept.evidence()


def test_a_manifest_without_its_accounts_is_no_snapshot(tmp_path: Path) -> None:
    """Nor is one that lists a table there is not."""
    kept = save(tmp_path)
    manifest = json.loads((kept.folder / "manifest.json").read_text("utf-8"))
    for tables in ({}, {**manifest["tables"], "badge": manifest["tables"]["account"]}):
        (kept.folder / "manifest.json").write_text(json.dumps({**manifest, "tables": tables}), "utf-8")
        with pytest.raises(KeymalletError, match="damaged"):
            read_snapshot(kept.folder)
