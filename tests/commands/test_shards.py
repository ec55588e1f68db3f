"""A snapshot in shards, through the program: the same answers, and what goes wrong is told and leaves nothing."""

from __future__ import annotations

import csv
import io
import json
import os
import shutil
import signal
import subprocess
import time
from pathlib import Path

import pytest

from keymallet.demo.railway import write_estate
from tests.conftest import RAILWAY_AT, made_once
from tests.profiles import first
from tests.support import PROGRAM, kill_workers, newest, run

AT = ("--at", RAILWAY_AT)
JUDGE = ("judge", *AT, "--no-record", "--format", "csv")


def in_shards(folder: Path, shards: int | str) -> None:
    """Let the estate be read into so many shards."""
    file = folder / "estate.toml"
    file.write_text(f"shards = {shards}\n{file.read_text('utf-8')}", "utf-8")


@pytest.fixture(scope="session")
def divided_snapshot(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The railway in two shards; no run of it is in a logbook. Not to be changed."""

    def make(folder: Path) -> None:
        write_estate(folder)
        in_shards(folder, 2)
        run("read", *AT, cwd=folder, expect=3)

    return made_once(tmp_path_factory, "divided", make)


@pytest.fixture
def divided(divided_snapshot: Path, tmp_path: Path) -> Path:
    """A copy of it to do with as one likes."""
    return Path(shutil.copytree(divided_snapshot, tmp_path / "divided"))


def rows(text: str, *names: str) -> list[tuple[str, ...]]:
    return sorted(tuple(row[name] for name in names) for row in csv.DictReader(io.StringIO(text)))


@pytest.fixture
def whole(railway: Path) -> Path:
    """The railway in one piece, without the logbook."""
    shutil.rmtree(railway / "logbook")
    return railway


TOLD = ("rule", "account", "subject", "verdict", "since", "until", "missing", "finding-id", "answerer")
ROWS: list[tuple[tuple[str, ...], tuple[str, ...]]] = [
    (JUDGE, TOLD),
    (("ahead", *AT, "--format", "csv"), ("at", "rule", "account", "subject", "finding-id", "answerer")),
    (
        ("who", "privileged", "--columns", "unit, answerer", *AT, "--format", "csv"),
        ("account", "unit", "answerer"),
    ),
    (("who", "some account (privileged)", "--each", "person", *AT, "--format", "csv"), ("person", "name")),
]


@pytest.mark.parametrize("asked", first(1, ROWS), ids=str)
def test_rows_of_the_railway_in_shards(
    divided: Path, whole: Path, asked: tuple[tuple[str, ...], tuple[str, ...]]
) -> None:
    """Those of the whole, in another order; in a reason, the first few names may be others."""
    words, names = asked
    assert (newest(divided).shards, newest(whole).shards) == (2, 1)
    one, many = (run(*words, "--workers", "1", cwd=folder).stdout for folder in (whole, divided))
    assert rows(many, *names) == rows(one, *names) != []


SCREENS = [
    ("show", "Wim Tannmairin"),
    ("show", "Wim Tannmairin", "--all"),
    ("view", "lockouts"),
]


@pytest.mark.parametrize("words", first(0, SCREENS), ids=str)
def test_screens_of_the_railway_in_shards(divided: Path, whole: Path, words: tuple[str, ...]) -> None:
    one, many = (run(*words, *AT, cwd=folder, expect=0).stdout for folder in (whole, divided))
    assert many == one


def test_nobody_is_found_in_no_shard(divided: Path) -> None:
    """The nearest names are those of all shards; a part of many names says so."""
    told = run("show", "emergency-22", *AT, cwd=divided, expect=2).stderr
    assert "there is no account" in told and "emergency-2" in told
    assert "is part of the names of" in run("show", "enz", *AT, cwd=divided, expect=2).stderr


def test_a_run_of_shards_is_kept_sealed_and_judged_again(divided: Path) -> None:
    """What a logbook holds is judged as a whole."""
    run("judge", *AT, "--record", cwd=divided, expect=1)
    run("logbook", "seal", "1", "--output", "run.sealed", cwd=divided, expect=0)
    told = run("judge", "--sealed", "run.sealed", cwd=divided, expect=0).stdout
    assert "every verdict is the same" in told
    run("read", "--only", "staff", *AT, cwd=divided, expect=3)
    assert newest(divided).shards == 2


@pytest.mark.parametrize("damage", ["cut short", "gone", "another"])
def test_a_damaged_shard_is_named(divided: Path, damage: str) -> None:
    """No count is told that leaves a shard out."""
    folder = newest(divided).folder
    file = folder / "shard-0001/account.parquet"
    if damage == "gone":
        file.unlink()
    else:
        other = (folder / "shard-0000/account.parquet").read_bytes()
        file.write_bytes(file.read_bytes()[:-9] if damage == "cut short" else other)
    for words in (JUDGE, ("judge", *AT, "--no-record"), ("show", "root", *AT), ("ahead", *AT)):
        done = run(*words, "--workers", "1", cwd=divided, expect=2)
        assert "the snapshot is damaged" in done.stderr
        assert "shard-0001/account.parquet" in done.stderr and not done.stdout


def test_a_manifest_that_leaves_a_shard_out_is_damaged(divided: Path) -> None:
    """Half of the accounts would be judged, and look like all."""
    file = newest(divided).folder / "manifest.json"
    manifest = json.loads(file.read_text("utf-8"))
    del manifest["shards"][1]
    file.write_text(json.dumps(manifest), "utf-8")
    for words in (JUDGE, ("show", "root", *AT), ("who", "enabled", *AT)):
        done = run(*words, cwd=divided, expect=2)
        assert "its shards do not have the rows" in done.stderr or "could not be read" in done.stderr


@pytest.mark.parametrize("number", ["0", "100000", '"many"'])
def test_what_is_no_number_of_shards_is_told(tmp_path: Path, number: str) -> None:
    write_estate(tmp_path)
    in_shards(tmp_path, number)
    told = run("read", *AT, cwd=tmp_path, expect=2).stderr
    assert "estate.toml:1" in told and "shards" in told


@pytest.mark.deep
def test_where_a_worker_is_killed_its_shard_is_judged_all_the_same(
    divided: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    expected = run(*JUDGE, "--workers", "1", cwd=divided, expect=1).stdout
    killed = kill_workers(monkeypatch)
    assert run(*JUDGE, "--workers", "2", cwd=divided, expect=1).stdout == expected
    assert len(killed) > 2, "those that are begun anew are killed as well"


def program(divided: Path, scratch: Path, *words: str, limit: str = "") -> subprocess.Popen[str]:
    """The installed program in a group of its own, leaving what shards leave in `scratch`."""
    return subprocess.Popen(
        ["bash", "-c", f'{limit} exec "$0" "$@"', str(PROGRAM), *words],
        cwd=divided,
        env={**os.environ, "TMPDIR": str(scratch)},
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        text=True,
        start_new_session=True,
    )


@pytest.mark.skipif(os.name != "posix", reason="limits of files are the shell's")
def test_a_full_disk_is_told_and_nothing_is_left(divided: Path, tmp_path: Path) -> None:
    """Not a row is written, nor a file that looks whole."""
    scratch = tmp_path / "scratch"
    scratch.mkdir()
    words = (*JUDGE, "--workers", "1", "--output", "out.csv")
    done = program(divided, scratch, *words, limit="ulimit -f 4;")
    out, told = done.communicate(timeout=60)
    assert done.returncode == 2 and "cannot be written" in told and "TMPDIR" in told, told
    assert not out and not list(scratch.iterdir()) and not (divided / "out.csv").exists()


@pytest.mark.deep
@pytest.mark.skipif(os.name != "posix", reason="signals are the system's")
def test_an_interrupt_leaves_nothing(divided: Path, tmp_path: Path) -> None:
    """Neither files nor processes."""
    scratch = tmp_path / "scratch"
    scratch.mkdir()
    done = program(divided, scratch, *JUDGE, "--workers", "2", "--output", "out.csv")
    until = time.monotonic() + 30
    while not list(scratch.glob("*/findings-*")) and time.monotonic() < until:
        time.sleep(0.02)
    os.killpg(done.pid, signal.SIGINT)
    _, told = done.communicate(timeout=60)
    assert done.returncode not in (0, 1) and "Traceback" not in told, told
    assert not list(scratch.iterdir()) and not (divided / "out.csv").exists()
    until = time.monotonic() + 10
    with pytest.raises(ProcessLookupError):
        while time.monotonic() < until:
            os.killpg(done.pid, 0)
            time.sleep(0.05)


def read_twice(folder: Path, shards: int, change: str) -> dict[str, tuple[object, ...]]:
    """What the second of two readings says of each source, after a change."""
    write_estate(folder)
    if shards > 1:
        in_shards(folder, shards)
    run("read", *AT, cwd=folder, expect=3)
    accounts = folder / "exports" / "accounts.csv"
    options: tuple[str, ...] = ()
    match change:
        case "renamed":
            text = accounts.read_text("utf-8")
            accounts.write_text(text.replace("\nt.schneestetter;", "\nt.neu;"), "utf-8")
        case "gone":
            accounts.unlink()
        case "only":
            options = ("--only", "cloud")
    run("read", "--at", "2026-11-24T10:00Z", *options, cwd=folder, expect=3)
    snapshot = newest(folder)
    found = snapshot.evidence()
    heights = {name: frame.height for name, frame in found.tables.items()}
    assert len(set(found.tables["account"]["account"])) == heights["account"]
    sources = snapshot.manifest.sources.items()
    return {
        "": (heights,),
        **{n: (r.remarks, r.renamed, r.failed, r.read_at, r.known, r.supply, r.intake) for n, r in sources},
    }


@pytest.mark.parametrize("change", first(1, ["renamed", "gone", "only"]))
def test_what_an_earlier_snapshot_tells(tmp_path: Path, change: str) -> None:
    """In shards or not: who goes by another name, and what was not read now."""
    whole, parts = (read_twice(tmp_path / f"{shards}", shards, change) for shards in (1, 3))
    assert parts == whole
    assert any(told[1] for name, told in whole.items() if name) == (change == "renamed")


def test_what_would_mend_is_tried_on_the_rows_of_all_shards(divided: Path, whole: Path) -> None:
    """The evidence is linked anew for that, held as a whole."""
    words = ("mend", "--rule", "left-still-enabled", "--preview", "--no-pager", *AT)
    told = run(*words, cwd=divided)
    expected = run(*words, cwd=whole)
    assert told.returncode == expected.returncode
    # Changes of one weight stand in the order of the shards.
    assert told.stdout.splitlines()[:3] == expected.stdout.splitlines()[:3]
    assert sorted(told.stdout.split()) == sorted(expected.stdout.split()) != []
