"""The logbook in a folder, and on a database server: whole or not at all, and nothing altered unseen."""

from __future__ import annotations

import os
import shutil
import signal
import subprocess
import sys
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import msgspec
import polars as pl
import pytest
from alembic.config import Config
from alembic.script import ScriptDirectory
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey
from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat
from sqlalchemy import create_engine, text

from keymallet.core.base.problems import KeymalletError
from keymallet.core.history.columns import TRANSITION as CHANGES
from keymallet.store.logbook import connecting, migrations
from keymallet.store.logbook.connecting import VERSIONS, Location
from keymallet.store.logbook.logbook import TRANSITIONS, Logbook
from keymallet.store.logbook.pruning import prune
from keymallet.store.logbook.records import FAILED, JUDGED, BookRecord, RunLine, RunRecord
from keymallet.store.logbook.signing import Signer
from keymallet.store.logbook.verifying import verify
from tests.support import AT


@pytest.fixture(params=["folder", "server"])
def where(request: pytest.FixtureRequest, tmp_path: Path) -> Location:
    """A place for a logbook: a folder, or an empty database of a real server."""
    if request.param == "folder":
        return Location.of_folder(tmp_path / "logbook")
    server = request.getfixturevalue("postgresql")
    url = server.url(server.new_database())
    return Location(url.render_as_string(), url, tmp_path / "logbook")


def opened(where: Location, estate: str = "e", *, make: bool = True) -> Logbook:
    return Logbook.open(where, estate, "Org", make=make)


def record(day: int = 0, **values: Any) -> RunRecord:
    at = AT + timedelta(days=day)
    told: dict[str, Any] = {"outcome": JUDGED, "code": 1, "states": {"new": 2}}
    return RunRecord(
        estate="e",
        organisation="Org",
        clock="UTC",
        keymallet="0",
        ran_at=at,
        judged_at=at,
        by="b",
        host="h",
        **told | values,
    )


FINDINGS = pl.DataFrame({"finding-id": ["a" * 20, "b" * 20], "state": ["new", "open"]})


def changes(*findings: str, state: str = "mended") -> pl.DataFrame:
    rows = [
        {
            "finding-id": name,
            "rule-key": "r",
            "account-key": "k",
            "row-key": "",
            "rule": "r",
            "severity": "high",
        }
        | {
            "account": "d/ä",
            "was": "open",
            "state": state,
            "cause": "facts",
            "first-seen": AT,
            "times-back": 1,
        }
        | {"changed": [{"what": "enabled", "was": "yes", "is": None, "source": "d"}]}
        for name in findings
    ]
    schema = {name: kind for name, kind in TRANSITIONS.items() if name != "run"}
    return pl.DataFrame(rows, schema=schema, orient="row")


def append(logbook: Logbook, day: int = 0, gone: tuple[str, ...] = ()) -> RunLine:
    with logbook.taking_in() as writer:
        writer.keep_text(b"title = 'T'")
        return writer.append(record(day), FINDINGS, changes(*gone))


def test_what_goes_in_comes_out(where: Location) -> None:
    """Runs in their order, findings, changes with what exactly changed, and those that ended."""
    logbook = opened(where)
    first, second = append(logbook), append(logbook, 7, ("a" * 20,))
    assert [line.number for line in logbook.runs()] == [1, 2]
    assert (first.previous, second.previous) == ("", first.head)
    assert logbook.runs() == [first, second] and logbook.last() == second
    assert logbook.findings(first).equals(FINDINGS)
    told = logbook.transitions(second)
    assert told.schema == pl.Schema(TRANSITIONS)
    assert told.row(0, named=True)["changed"] == [
        {"what": "enabled", "was": "yes", "is": None, "source": "d"}
    ]
    assert (told["first-seen"][0], told["account"][0]) == (AT, "d/ä")
    assert logbook.life("a" * 20).height == 1 and logbook.called("aaa") == ["a" * 20]
    with logbook.taking_in() as writer:
        assert writer.ended(pl.Series(["b" * 20, "a" * 20])).rows() == [("a" * 20, AT, 1)]
    assert not list(verify(logbook))
    assert set(CHANGES) - set(TRANSITIONS) <= {"name", "stable-id", "kind"}


def test_what_is_raised_within_leaves_everything_as_it_was(where: Location) -> None:
    logbook = opened(where)
    append(logbook)
    with pytest.raises(ZeroDivisionError), logbook.taking_in() as writer:
        writer.append(record(7), FINDINGS, changes("a" * 20))
        raise ZeroDivisionError
    assert len(logbook.runs()) == 1 and not logbook.life("a" * 20).height
    append(logbook, 7)
    assert not list(verify(logbook))


def test_many_writers_at_once(where: Location) -> None:
    """Each waits for the others: a chain without a gap."""
    opened(where)
    with ThreadPoolExecutor(8) as workers:
        list(workers.map(lambda day: append(opened(where), day), range(16)))
    logbook = opened(where)
    assert [line.number for line in logbook.runs()] == list(range(1, 17))
    assert not list(verify(logbook))


def test_two_who_make_it_at_once(where: Location) -> None:
    with ThreadPoolExecutor(4) as workers:
        list(workers.map(lambda day: append(opened(where), day), range(4)))
    assert len(opened(where).runs()) == 4


def test_another_estates_logbook(where: Location) -> None:
    append(opened(where))
    with pytest.raises(KeymalletError, match="logbook of another estate: Org, e") as told:
        opened(where, "other")
    assert "this estate is Org, other" in told.value.problems[0].hint


def test_estates_that_have_the_same_identity_by_themselves(where: Location) -> None:
    """Every estate beside its snapshots has that one: the organisation tells them apart, and a name of one's own."""
    append(opened(where, "../estate.toml"))
    with pytest.raises(KeymalletError, match="logbook of another estate: Org") as told:
        Logbook.open(where, "../estate.toml", "Another", is_named=False)
    assert "Is it the same under another name?" in told.value.problems[0].hint
    assert Logbook.open(where, "../estate.toml", "Org", is_named=False).runs()
    assert Logbook.open(where, "../estate.toml", "Org Ltd", is_named=True).runs()


def test_nothing_is_made_by_reading(where: Location) -> None:
    with pytest.raises(KeymalletError, match="no logbook"):
        opened(where, make=False)
    assert not where.files.exists()


def test_a_newer_version_is_left_alone(where: Location) -> None:
    append(opened(where))
    _sql(where, "UPDATE alembic_version SET version_num = '9999'")
    with pytest.raises(KeymalletError, match="written by a newer Keymallet"):
        opened(where)
    _sql(where, f"UPDATE alembic_version SET version_num = '{VERSIONS[-1]}'")
    assert len(opened(where).runs()) == 1


NEXT_VERSION = """
import sqlalchemy as sa
from alembic import op

revision, down_revision = "next", "{before}"


def upgrade() -> None:
    op.add_column("run", sa.Column("more", sa.String))
    op.execute("UPDATE run SET more = 'told'")
    {then}
"""


def the_next_version(monkeypatch: pytest.MonkeyPatch, folder: Path, then: str) -> None:
    """A later version of this program, with one more version of the tables."""
    shutil.rmtree(folder, ignore_errors=True)
    shutil.copytree(Path(migrations.__file__).parent, folder)
    (folder / "versions/next.py").write_text(NEXT_VERSION.format(before=VERSIONS[-1], then=then))
    monkeypatch.setattr(connecting, "MIGRATIONS", str(folder))
    monkeypatch.setattr(connecting, "VERSIONS", (*VERSIONS, "next"))


def test_an_older_version_is_brought_up_to_date(
    where: Location, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """In one go, whoever comes first, with all that was in it; if it fails on the way, nothing was done."""
    before = append(opened(where))
    with monkeypatch.context() as later:
        the_next_version(
            later, tmp_path / "broken", "raise sa.exc.OperationalError('', {}, Exception('disk is full'))"
        )
        with pytest.raises(KeymalletError, match="disk is full"):
            opened(where)
    assert opened(where).runs() == [before], "the older program reads it as before"
    with monkeypatch.context() as later:
        the_next_version(later, tmp_path / "next", "")
        with ThreadPoolExecutor(4) as workers:
            found = list(workers.map(lambda _: opened(where, make=False).runs(), range(4)))
        assert found == [[before]] * 4
        append(opened(where), 7)
        assert not list(verify(opened(where)))
        with create_engine(where.url).connect() as connection:
            assert connection.execute(text("SELECT count(more) FROM run")).scalar() == 1
    with pytest.raises(KeymalletError, match="written by a newer Keymallet"):
        opened(where)


def _sql(where: Location, *statements: str) -> None:
    engine = create_engine(where.url)
    with engine.begin() as connection:
        for statement in statements:
            connection.execute(text(statement))
    engine.dispose()


ALTERED = {
    "a number": ("UPDATE run SET numbers = '{}' WHERE number = 2", "run 2: the index differs"),
    "an exit code": (
        "UPDATE run SET code = 0 WHERE number = 2",
        "run 2: the index differs from its record: code",
    ),
    "a run from the middle": ("DELETE FROM run WHERE number = 2", "run 3: run 2 is missing"),
    "the order": (
        "UPDATE run SET number = number + 100; UPDATE run SET number = 2 WHERE number = 103;"
        " UPDATE run SET number = 3 WHERE number = 102; UPDATE run SET number = 1 WHERE number = 101;"
        " UPDATE run SET number = 4 WHERE number = 104",
        "run 2: it does not follow",
    ),
    "a change": ("UPDATE transition SET state = 'open' WHERE run = 3", "run 3: its changes were altered"),
    "a change taken out": ("DELETE FROM transition WHERE run = 3", "run 3: its changes were altered"),
    "a change put in": (
        "UPDATE transition SET run = 2 WHERE run = 3",
        "run 2: its changes were altered",
    ),
}


@pytest.mark.parametrize("what", ALTERED)
def test_what_is_altered_by_hand_is_found(where: Location, what: str) -> None:
    logbook = opened(where)
    for day in range(4):
        append(logbook, day, ("a" * 20,) if day == 2 else ())
    assert not list(verify(logbook))
    statements, told = ALTERED[what]
    _sql(where, *statements.split(";"))
    assert told in " ".join(f"run {each.run}: {each.text}" for each in verify(opened(where)))


def test_every_byte_of_every_file_counts(tmp_path: Path) -> None:
    """The first, the last and one in the middle of each; and a file that is gone."""
    where = Location.of_folder(tmp_path / "logbook")
    logbook = opened(where)
    append(logbook)
    with logbook.taking_in() as writer:
        book = {"title": "T", "edition": "", "roots": ["r"], "taken-out": []}
        kept = writer.keep_text(b"title = 'T'")
        texts = [{"name": "r", "sha256": "", "blake3": kept}]
        writer.append(
            record(1, rulebook=msgspec.convert({**book, "texts": texts}, BookRecord)), FINDINGS, changes()
        )
    files = [path for path in where.files.rglob("*") if path.is_file() and path.suffix]
    assert len(files) >= 4
    for path in files:
        whole = path.read_bytes()
        for place in (0, len(whole) // 2, len(whole) - 1):
            path.write_bytes(whole[:place] + bytes([whole[place] ^ 1]) + whole[place + 1 :])
            assert list(verify(logbook)), path
        path.unlink()
        assert list(verify(logbook)), path
        path.write_bytes(whole)
    assert not list(verify(logbook))


def test_runs_cut_off_the_end_show_by_a_head_kept_outside(where: Location) -> None:
    logbook = opened(where)
    heads = [append(logbook, day).head for day in range(3)]
    _sql(where, "DELETE FROM run WHERE number = 3")
    assert not list(verify(opened(where))), "the chain alone cannot tell"
    (told,) = verify(opened(where), heads[2][:12])
    assert "runs were removed from the end" in told.text
    assert not list(verify(opened(where), heads[1]))


def test_a_failed_run_is_a_link_of_the_chain(where: Location) -> None:
    logbook = opened(where)
    append(logbook)
    with logbook.taking_in() as writer:
        failed = writer.append(record(1, outcome=FAILED, failed="the disk is full", code=2, states={}))
    last = append(logbook, 2)
    assert last.previous == failed.head and not failed.judged
    assert logbook.last() == last and not list(verify(logbook))


@pytest.mark.parametrize(
    ("make", "told"),
    [
        (lambda folder: folder.write_text("x"), "the logbook is a folder, and this is a file"),
        (lambda folder: (folder.mkdir(), (folder / "logbook.sqlite").write_text("no database " * 99)), "no logbook, or it is damaged"),
        (lambda folder: (folder.mkdir(), (folder / "logbook.sqlite").mkdir()), "cannot be opened"),
    ],
)  # fmt: skip
def test_what_stands_in_its_place(tmp_path: Path, make: Callable[[Path], object], told: str) -> None:
    make(tmp_path / "logbook")
    with pytest.raises(KeymalletError, match=told):
        opened(Location.of_folder(tmp_path / "logbook"))


def test_a_server_that_is_not_there_or_goes_away(postgresql: Any, tmp_path: Path) -> None:
    """A sentence without the password; what was being written is not in it."""
    url = postgresql.url(postgresql.new_database())
    where = Location(url.render_as_string(), url, tmp_path / "logbook")
    logbook = opened(where)
    append(logbook)
    nowhere = replace(where, url=url.set(port=1))
    wrong = replace(where, url=url.set(password="wrong-Secret-0000"))
    for place, part in ((nowhere, "refused"), (wrong, "password authentication failed")):
        with pytest.raises(KeymalletError) as told:
            opened(place)
        said = str(told.value) + str(told.value.problems)
        assert part in said and "Secret" not in said
    with pytest.raises(KeymalletError), logbook.taking_in() as writer:
        writer.append(record(1), FINDINGS, changes("a" * 20))
        postgresql.stop("immediate")
        writer.append(record(2))
    postgresql.start()
    assert len(opened(where).runs()) == 1 and not list(verify(opened(where)))


KILLED = """
import sys
from pathlib import Path
from tests.store.test_logbook import Location, append, opened
where = Location.of_folder(Path(sys.argv[1]))
print("ready", flush=True)
day = 0
while True:
    append(opened(where), day, ("a" * 20,))
    day += 1
"""


@pytest.mark.parametrize("times", [3, pytest.param(100, marks=pytest.mark.deep)])
def test_killed_in_the_middle_of_writing(tmp_path: Path, times: int) -> None:
    """After each kill the chain is whole, and the next run follows it."""
    where = Location.of_folder(tmp_path / "logbook")
    opened(where)
    grown = 0
    for number in range(times):
        words = [sys.executable, "-c", KILLED, str(tmp_path / "logbook")]
        with subprocess.Popen(words, stdout=subprocess.PIPE, cwd=Path(__file__).parents[2]) as process:
            assert process.stdout is not None and process.stdout.readline()
            time.sleep(0.02 + 0.013 * (number % 7))
            os.kill(process.pid, signal.SIGKILL)
        logbook = opened(where)
        assert not list(verify(logbook))
        append(logbook)
        runs = len(logbook.runs())
        assert runs > grown
        grown = runs


def test_a_full_disk(tmp_path: Path) -> None:
    """Nothing of the run is in it, what was there is whole, and the sentence says what to do."""
    if os.geteuid() != 0 or shutil.which("mount") is None:
        pytest.skip("a small file system can be mounted only by root")
    small = tmp_path / "small"
    small.mkdir()
    subprocess.run(["mount", "-t", "tmpfs", "-o", "size=300k", "none", str(small)], check=True)
    try:
        where = Location.of_folder(small / "logbook")
        logbook = opened(where)
        append(logbook)
        (small / "rest").write_bytes(b"x" * (shutil.disk_usage(small).free - 4096))
        many = pl.DataFrame({"finding-id": [os.urandom(10).hex() for _ in range(9000)]})
        full = pytest.raises(KeymalletError, match=r"No space left|disk is full|does not take it")
        with full, logbook.taking_in() as writer:
            writer.append(record(1), many, changes(*(f"{number:020}" for number in range(900))))
        (small / "rest").unlink()
        assert len(logbook.runs()) == 1 and not list(verify(logbook))
        append(logbook, 1)
        assert not list(verify(logbook))
    finally:
        subprocess.run(["umount", str(small)], check=True)


def test_the_versions_are_those_that_are_written_down() -> None:
    """The list that decides what is older and what is newer is the chain of the migrations."""
    config = Config()
    config.set_main_option("script_location", "keymallet.store.logbook:migrations")
    walked = [script.revision for script in ScriptDirectory.from_config(config).walk_revisions()]
    assert tuple(reversed(walked)) == VERSIONS
    assert connecting.VERSIONS[-1] == walked[0]


def test_its_files_are_for_its_owner_alone(tmp_path: Path) -> None:
    append(opened(Location.of_folder(tmp_path / "logbook")))
    for path in (tmp_path / "logbook").rglob("*"):
        assert path.stat().st_mode & 0o077 == 0, path


def test_instants_keep_their_microseconds(where: Location) -> None:
    odd = datetime(2026, 11, 24, 9, 0, 0, 123456, tzinfo=UTC)
    logbook = opened(where)
    with logbook.taking_in() as writer:
        writer.append(msgspec.structs.replace(record(), judged_at=odd), FINDINGS)
    assert logbook.runs()[0].judged_at == odd


def test_signed_runs_are_told_from_others(where: Location, tmp_path: Path) -> None:
    """By the key alone; a run that was put in without it, or a signature of another key, is named."""
    keys = [Ed25519PrivateKey.generate() for _ in range(2)]
    pems = [key.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption()).decode() for key in keys]
    append(opened(where))
    for day, pem in enumerate(pems, 1):
        append(Logbook.open(where, "e", "Org", make=True, sign=Signer(pem, "k")), day)
    told = [(each.run, each.text) for each in verify(opened(where), key=keys[0].public_key())]
    assert told == [(1, "it is not signed"), (3, "its signature is not that of this key")]
    assert not list(verify(opened(where)))
    for text_of_key in ("no key", pems[0].replace("M", "N", 3)):
        with pytest.raises(KeymalletError, match="no private key"):
            Signer(text_of_key, "k")


def test_pruning_makes_room_and_breaks_nothing(where: Location) -> None:
    """Findings of old runs go, what no run names goes; the last run's stay, and the chain verifies."""
    logbook = opened(where)
    for day in range(4):
        with logbook.taking_in() as writer:
            writer.append(record(day), FINDINGS.with_columns(day=pl.lit(day)), changes())
    orphan = logbook.contents.put(b"of a run that was killed", ".parquet")
    runs = logbook.runs()
    assert prune(logbook, runs, dry_run=True).runs == 3 and logbook.contents.path(orphan, ".parquet").exists()
    assert prune(logbook, runs, dry_run=False).files == 4
    after = logbook.runs()
    assert [run.pruned for run in after] == [True, True, True, False]
    assert not list(verify(logbook)) and logbook.findings(after[3]).height == 2
    with pytest.raises(KeymalletError, match="findings of run 1 are no longer kept"):
        logbook.findings(after[0])
    assert prune(logbook, runs, dry_run=False).runs == 0
    append(logbook, 5)
    assert prune(logbook, runs, dry_run=False).runs == 1, "it is no longer the last"
