"""Many hosts, read by several processes, come out as if they were read by one."""

from __future__ import annotations

import os
import pickle
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

import polars as pl
import pytest
from polars.testing import assert_frame_equal

from keymallet.core.base.problems import KeymalletError, fail
from keymallet.core.facts.reading import Reading
from keymallet.sources.host import side_by_side
from keymallet.sources.host.hosts import read
from keymallet.sources.request import Request
from keymallet.sources.sections import HostSection
from tests.support import AT, CLOCK, kill_workers

NUMBER = 24
SHARED = "$6$saltsalt$" + "a" * 86


@pytest.fixture
def hosts(tmp_path: Path) -> Path:
    """All have a password in common, and a line that is refused; one has no account that can be read."""
    for number in range(NUMBER):
        folder = tmp_path / f"hosts/h{number:02}/etc"
        folder.mkdir(parents=True)
        (folder / "passwd").write_text(f"ada{number}:x:1000:1000::/home/ada:/bin/sh\nnonsense\n")
        (folder / "shadow").write_text(f"ada{number}:{SHARED}:20000:0:99999:7:::\n")
    (tmp_path / "hosts/h05/etc/shadow").write_bytes(b"\xff" * 9)
    return tmp_path


def readings(folder: Path) -> list[Reading]:
    with ThreadPoolExecutor(2) as workers:
        request = Request("hosts", folder, CLOCK, AT, workers)
        found = read(HostSection(read="host", folder="hosts"), request)
        request.note_files()
    return found


def assert_same(found: list[Reading], expected: list[Reading]) -> None:
    assert [each.source for each in found] == [f"hosts/h{number:02}" for number in range(NUMBER)]
    for mine, other in zip(found, expected, strict=True):
        for name in mine.tables.keys() | other.tables.keys():
            assert_frame_equal(mine.tables[name], other.tables[name])
        assert {**vars(mine), "tables": 0} == {**vars(other), "tables": 0}


def never(*_: object) -> Any:
    raise AssertionError("read by this process")


def test_the_same_readings(hosts: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Tables, notes, files and refusals; and a password that two processes saw is one."""
    expected = readings(hosts)
    monkeypatch.setattr(side_by_side, "WORTH_IT", 4)
    monkeypatch.setattr(pl, "thread_pool_size", lambda: 2)
    with monkeypatch.context() as patch:
        patch.setattr(side_by_side, "_reading", never)
        found = readings(hosts)
    assert_same(found, expected)
    digests = {each.tables["account"]["password-digest"][0] for each in found if each.source != "hosts/h05"}
    assert len(digests) == 1 and None not in digests
    assert "POLARS_MAX_THREADS" not in os.environ


def test_where_a_process_is_killed_nothing_is_missing(hosts: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Whether it dies before it is asked, or while it reads."""

    expected = readings(hosts)
    monkeypatch.setattr(side_by_side, "WORTH_IT", 4)
    killed = kill_workers(monkeypatch)
    monkeypatch.setattr(pl, "thread_pool_size", lambda: 2)
    assert_same(readings(hosts), expected)
    assert killed


def test_what_went_wrong_passes_from_one_process_to_another() -> None:
    error = fail("the file cannot be read", file="etc/passwd", line=3, hint="look")
    again = pickle.loads(pickle.dumps(error))
    assert isinstance(again, KeymalletError) and again.problems == error.problems
