"""A snapshot holds together: one source fails, shrinks, is renamed in or read alone, and the rest stands."""

from __future__ import annotations

import csv
import io
import json
import os
import threading
from datetime import timedelta
from pathlib import Path
from typing import Any

import polars as pl
import pytest

from keymallet.sources.estate import read_estate
from keymallet.sources.reading import read_sources
from tests.conftest import RAILWAY_AT
from tests.support import AT, newest, run, run_installed, write

MAP = """
[account.columns]
name = "L"
stable-id = "I"
enabled = "E"
[key.columns]
account = "L"
key = "K"
"""
ESTATE = """
organisation = "O"
clock = "UTC"
rulebook = "r.toml"
[source.one]
read = "csv"
map = "m.toml"
files = { account = "one.csv", key = "keys.csv" }
[source.two]
read = "csv"
map = "m.toml"
files = { account = "two.csv" }
"""
BOOK = """
title = "T"
[rule.on]
title = "On"
must = "enabled"
severity = "high"
[rule.keyless]
title = "No key"
must = "no key"
severity = "low"
"""


def people(*names: str, enabled: str = "yes") -> str:
    """An export: each name's id is its first letter."""
    return "L,I,E\n" + "".join(f"{name},{name[0]},{enabled}\n" for name in names)


@pytest.fixture
def estate(tmp_path: Path) -> Path:
    """Two sources, read once."""
    files = {"estate.toml": ESTATE, "m.toml": MAP, "r.toml": BOOK, "one.csv": people("a", "b", "c", "d", "e")}
    write(tmp_path, {**files, "keys.csv": "L,K\na,k1\n", "two.csv": people("x", "y", enabled="no")})
    run("read", "--at", "2026-11-20T00:00Z", cwd=tmp_path, expect=0)
    return tmp_path


def verdicts(folder: Path) -> dict[tuple[str, str], str]:
    told = run("judge", "--format", "csv", cwd=folder).stdout
    return {(row["rule"], row["account"]): row["verdict"] for row in csv.DictReader(io.StringIO(told))}


def test_a_source_that_fails_leaves_the_others_standing(estate: Path) -> None:
    """It is named in every later output; its accounts are neither gone nor clean."""
    (estate / "one.csv").rename(estate / "elsewhere.csv")
    told = run("read", cwd=estate, expect=3).stdout
    assert "not read: one.csv: there is no such file" in told
    assert "5 accounts known from 2026-11-20 00:00Z are carried as not read" in told
    found = verdicts(estate)
    assert {found["on", f"one/{name}"] for name in "abcde"} == {"unproven"}
    assert {found["keyless", f"one/{name}"] for name in "abcde"} == {"unproven"}
    assert found["on", "two/x"] == "breach"
    assert "incomplete: one: not read" in run("judge", cwd=estate, expect=1).stdout
    assert "one/a" in run("show", "a", cwd=estate, expect=0).stdout
    # Still not there the next time: the accounts and when they were really read are carried on.
    run("read", cwd=estate, expect=3)
    again = newest(estate).manifest.sources["one"]
    assert "known from 2026-11-20 00:00Z" in again.remarks[0]
    (estate / "elsewhere.csv").rename(estate / "one.csv")
    run("read", cwd=estate, expect=0)
    assert ("on", "one/a") not in verdicts(estate), "met again"


def test_nothing_read_is_no_snapshot(estate: Path) -> None:
    """All sources failing is an error in full, with file and line, and the earlier snapshot stays the newest."""
    before = newest(estate).folder
    write(estate, {"m.toml": '[account.columns]\nname = "L"\nenabeld = "E"\n'})
    done = run("read", cwd=estate, expect=2)
    assert "m.toml:3" in done.stderr and 'did you mean "enabled"?' in done.stderr
    assert done.stderr.count('did you mean "enabled"?') == 1, "both sources use the one map"
    assert newest(estate).folder == before


def test_a_source_that_shrinks_is_asked_about(estate: Path) -> None:
    """More than a fifth fewer stops; exactly a fifth does not; --accept-drop goes on; the limit can be set."""
    write(estate, {"one.csv": people("a", "b", "c", "d")})
    run("read", cwd=estate, expect=0)
    write(estate, {"one.csv": people("a", "b", "c")})
    done = run("read", cwd=estate, expect=2)
    assert "one: 3 accounts where there were 4: 25% fewer; if that is right: --accept-drop" in done.stderr
    write(estate, {"estate.toml": ESTATE.replace('clock = "UTC"', 'clock = "UTC"\nlargest-drop = 30')})
    run("read", cwd=estate, expect=0)
    write(estate, {"estate.toml": ESTATE, "one.csv": people("a")})
    run("read", cwd=estate, expect=2)
    run("read", "--accept-drop", cwd=estate, expect=0)
    assert newest(estate).manifest.tables["account"].rows == 3


def test_a_new_name_is_a_rename_where_the_lasting_id_says_so(estate: Path) -> None:
    """Swapped names and new accounts are none."""
    text = people("anna", "b", "c", "e", "f").replace("f,f", "f,z").replace("c,c", "c,d")
    write(estate, {"one.csv": text})
    told = run("read", cwd=estate, expect=3).stdout
    assert "renamed: a is now anna" in told and "key: 1 row names an account that is not there: a" in told
    assert newest(estate).manifest.sources["one"].renamed == {"a": "anna"}


def test_one_source_alone_is_read_anew(estate: Path) -> None:
    """The others stay as they were read, with when that was; rows of other tables still find their accounts."""
    write(estate, {"one.csv": "broken", "two.csv": people("x", "y", "z")})
    run("read", "--only", "two", cwd=estate, expect=0)
    snapshot = newest(estate)
    assert snapshot.manifest.sources["one"].read_at.day == 20
    assert snapshot.manifest.sources["two"].read_at.day != 20 or snapshot.manifest.read_at.day == 20
    evidence = snapshot.evidence()
    assert evidence.tables["account"]["account"].to_list() == [
        *(f"one/{name}" for name in "abcde"),
        "two/x",
        "two/y",
        "two/z",
    ]
    assert evidence.tables["key"].select("account", "key").rows() == [("one/a", "k1")]
    found = verdicts(estate)
    assert found["keyless", "one/a"] == "breach" and ("on", "two/x") not in found
    done = run("read", "--only", "tow", cwd=estate, expect=2)
    assert 'did you mean "two"?' in done.stderr


def test_one_source_alone_wants_a_snapshot_for_the_rest(tmp_path: Path) -> None:
    """There is nothing to take them from the first time."""
    write(tmp_path, {"estate.toml": ESTATE, "m.toml": MAP, "r.toml": BOOK, "two.csv": people("x")})
    assert "read all once" in run("read", "--only", "two", cwd=tmp_path, expect=2).stderr


def test_a_dry_run_shows_and_writes_nothing(estate: Path) -> None:
    """The first accounts as they would be taken, and what would not be read."""
    before = newest(estate).folder
    write(estate, {"one.csv": people("a", "b") + "cut\n"})
    told = run("read", "--dry-run", "--only", "one", cwd=estate, expect=3).stdout
    assert "read 2 accounts, refused 1 (one.csv line 4" in told and "nothing was written" in told
    assert [line.split() for line in told.splitlines() if line.startswith("  a ")] == [["a", "yes"]]
    assert newest(estate).folder == before
    (estate / "one.csv").unlink()
    assert "not read: one.csv" in run("read", "--dry-run", cwd=estate, expect=3).stdout


def test_hosts_of_a_source_that_fails_are_all_carried(tmp_path: Path) -> None:
    """Each as the source of its own that it is; and taken over when another source alone is read."""
    host = '[source.vm]\nread = "host"\nfolder = "vm"\n'
    files: dict[str, Any] = {"estate.toml": ESTATE + host, "m.toml": MAP, "r.toml": BOOK}
    files |= {"one.csv": people("a"), "keys.csv": "L,K\na,k\n", "two.csv": people("x")}
    files |= {f"vm/{name}/etc/passwd": "root:x:0:0::/root:/bin/sh\n" for name in ("h1", "h2")}
    write(tmp_path, files)
    run("read", cwd=tmp_path, expect=0)
    run("read", "--only", "one", cwd=tmp_path, expect=0)
    assert list(newest(tmp_path).manifest.sources) == ["one", "two", "vm/h1", "vm/h2"]
    (tmp_path / "vm").rename(tmp_path / "away")
    run("read", cwd=tmp_path, expect=3)
    found = newest(tmp_path)
    assert [name for name, source in found.manifest.sources.items() if source.failed] == ["vm/h1", "vm/h2"]
    assert found.evidence().tables["account"]["account"].to_list() == [
        "one/a",
        "two/x",
        "vm/h1/root",
        "vm/h2/root",
    ]


def test_a_source_that_takes_too_long_is_not_waited_for(tmp_path: Path) -> None:
    """Its own bound of time is over, the others are read side by side meanwhile."""
    slow = ESTATE.replace(
        'files = { account = "two.csv" }', 'files = { account = "two.csv" }\nwithin = "300ms"'
    )
    write(tmp_path, {"estate.toml": slow, "m.toml": MAP, "one.csv": people("a"), "keys.csv": "L,K\n"})
    os.mkfifo(tmp_path / "two.csv")
    estate = read_estate(tmp_path / "estate.toml")
    assert [source.within for source in estate.sources] == [timedelta(hours=1), timedelta(milliseconds=300)]
    readings = read_sources(estate.sources, estate, AT)
    assert [bool(reading.failed) for reading in readings] == [False, True]
    assert "took longer than 300 ms" in readings[1].failed
    assert isinstance(readings[0].tables["account"], pl.DataFrame)
    # Let the reader that still waits for the pipe come to its end.
    threading.Thread(target=lambda: (tmp_path / "two.csv").write_text("L\n"), daemon=True).start()


@pytest.mark.parametrize("manifest", ['{"format": 1}', "{", '{"organisation": "O"}'])
def test_a_snapshot_that_cannot_be_read_is_got_past(estate: Path, manifest: str) -> None:
    """Of another version, or damaged: judging refuses it, reading makes a new one and says what it could not compare."""
    (newest(estate).folder / "manifest.json").write_text(manifest, "utf-8")
    refused = run("judge", cwd=estate, expect=2).stderr
    assert "manifest.json" in refused and "keymallet read makes a new one" in refused
    told = " ".join(run("read", cwd=estate, expect=0).stdout.split())
    assert "nothing was held against 20" in told
    run("judge", cwd=estate)


def test_sources_that_hang_starve_nobody(tmp_path: Path) -> None:
    """Each has its own time, from when all began: eight that never answer leave the ninth standing."""
    hanging = "".join(
        f'[source.s{n}]\nread = "csv"\nmap = "m.toml"\nfiles = {{ account = "pipe{n}" }}\nwithin = "2s"\n'
        for n in range(8)
    )
    good = '[source.good]\nread = "csv"\nmap = "m.toml"\nfiles = { account = "a.csv" }\nwithin = "20s"\n'
    head = 'organisation = "O"\nclock = "UTC"\nrulebook = "r.toml"\n'
    write(
        tmp_path, {"estate.toml": head + hanging + good, "m.toml": MAP, "r.toml": BOOK, "a.csv": people("a")}
    )
    for number in range(8):
        os.mkfifo(tmp_path / f"pipe{number}")
    told = run_installed("read", cwd=tmp_path, expect=3).stdout
    assert "good\n  read 1 account" in told
    assert newest(tmp_path).manifest.sources["good"].failed == ""
    assert [name for name, source in newest(tmp_path).manifest.sources.items() if source.failed] == [
        f"s{number}" for number in range(8)
    ]


def test_a_snapshot_is_for_whoever_read_it(estate: Path) -> None:
    """It holds who has which password state and key: nobody else on the machine needs that."""
    assert newest(estate).folder.stat().st_mode & 0o077 == 0


def test_what_a_map_calls_unknown_is_not_none(tmp_path: Path) -> None:
    """In a column of text as in any other: neither that there is an owner is known, nor that there is none."""
    files = {
        "estate.toml": 'organisation = "O"\nclock = "UTC"\nrulebook = "r.toml"\n[source.one]\nread = "csv"\n'
        'map = "m.toml"\nfiles = { account = "a.csv" }\n',
        "m.toml": 'unknown = ["?"]\nnone = ["-"]\n[account.columns]\nname = "L"\nowner = "O"\n',
        "a.csv": "L,O\na,?\nb,-\nc,\nd,in\ne,outside\n",
        "r.toml": 'title = "T"\n'
        + "".join(
            f'[rule.{name}]\ntitle = "R"\nseverity = "high"\nmust = "{must}"\n'
            for name, must in (
                ("known", "owner is known"),
                ("inside", "owner is unknown or owner != 'outside'"),
            )
        ),
    }
    write(tmp_path, files)
    run("read", cwd=tmp_path, expect=0)
    found = json.loads(run("judge", "--format", "json", cwd=tmp_path, expect=1).stdout)["findings"]
    verdicts = {(row["rule"], row["account"].partition("/")[2]): row["verdict"] for row in found}
    assert verdicts == {
        ("known", "a"): "unproven", ("known", "b"): "breach", ("known", "c"): "breach",
        ("inside", "a"): "unproven", ("inside", "e"): "breach",
    }  # fmt: skip


def test_a_folder_is_no_rulebook(tmp_path: Path) -> None:
    """`rulebook = "base"` means the one that ships, whatever folders lie beside the estate file."""
    text = ESTATE.replace("r.toml", "base")
    assert text != ESTATE
    write(tmp_path, {"estate.toml": text, "m.toml": MAP, "one.csv": people("a"), "two.csv": people("x")})
    (tmp_path / "base").mkdir()
    assert "rules" in run("rules", "check", cwd=tmp_path, expect=0).stdout


def test_rows_that_were_refused_are_written_as_they_stood(tmp_path: Path) -> None:
    """Byte for byte, with their header; corrected, they are read. An existing file is never written over."""
    rows = 'Login;Name\r\nann;Änn\r\nbo;Bo;too much\r\ncy;"Cy\r\nof two lines";x\r\nann;again\r\ndee;Dee\r\n'
    estate = 'organisation = "O"\nclock = "UTC"\nrulebook = "base"\n[source.d]\nread = "csv"\nmap = "m.toml"\nfiles = { account = ["a.csv"] }\n'
    write(tmp_path, {"estate.toml": estate, "m.toml": MAP_OF_LATIN, "a.csv": rows.encode("cp1252")})
    done = run("read", "--refused", "refused.csv", cwd=tmp_path, expect=3)
    assert "refused rows of a.csv written to refused.csv" in " ".join(done.stdout.split())
    assert (tmp_path / "refused.csv").read_bytes() == (
        'Login;Name\r\nbo;Bo;too much\r\ncy;"Cy\r\nof two lines";x\r\nann;again\r\n'.encode("cp1252")
    )
    before = (tmp_path / "refused.csv").read_bytes()
    assert "exists already" in run("read", "--refused", "refused.csv", cwd=tmp_path, expect=2).stderr
    assert (tmp_path / "refused.csv").read_bytes() == before
    (tmp_path / "refused.csv").write_bytes(
        before.replace(b";too much", b"").replace(b";x", b"").replace(b"ann", b"anna")
    )
    (tmp_path / "estate.toml").write_text(estate.replace('["a.csv"]', '["a.csv", "refused.csv"]'), "utf-8")
    assert "read 5 accounts" in run("read", "--accept-drop", cwd=tmp_path).stdout


MAP_OF_LATIN = 'encoding = "windows-1252"\n[account.columns]\nname = "Login"\ndisplay = "Name"\n'


@pytest.mark.parametrize(
    ("as_of", "told"),
    [("2026-11-20T06:00:00Z", "2026-11-20T06:00:00"), ('"2026-11-20"', "2026-11-20T00:00:00"), ('"file"', "2026-11-19T12:00:00")],
)  # fmt: skip
def test_an_export_says_what_was_true_when_it_was_made(tmp_path: Path, as_of: str, told: str) -> None:
    """What was to come then has not happened; it gets old from then on."""
    estate = f'organisation = "O"\nclock = "UTC"\nrulebook = "base"\n[source.d]\nread = "csv"\nmap = "m.toml"\nas-of = {as_of}\nstale-after = "3d"\nfiles = {{ account = "a*.csv" }}\n'
    rows = "Login,Seen\nann,2026-11-18\nbo,2026-11-22\n"
    write(
        tmp_path,
        {
            "estate.toml": estate,
            "m.toml": '[account.columns]\nname = "Login"\nlast-sign-in = "Seen"\n',
            "a1.csv": rows,
        },
    )
    os.utime(tmp_path / "a1.csv", (1795089600, 1795089600))  # 2026-11-19 12:00
    done = run("read", "--at", "2026-11-24T09:00Z", cwd=tmp_path, expect=3)
    assert "2026-11-22 00:00Z lies after the reading" in " ".join(done.stdout.split())
    assert newest(tmp_path).manifest.sources["d"].read_at.isoformat().startswith(told)
    assert "too-old" in run("judge", "--at", "2026-11-24T09:00Z", "--format", "json", cwd=tmp_path).stdout
    write(tmp_path, {"estate.toml": estate.replace(f"as-of = {as_of}", 'as-of = "soon"')})
    refused = run("read", "--at", "2026-11-24T09:00Z", cwd=tmp_path, expect=2)
    assert '"soon" is no date' in refused.stderr
    write(tmp_path, {"estate.toml": estate.replace(f"as-of = {as_of}", "as-of = 2027-01-01")})
    later = run("read", "--at", "2026-11-24T09:00Z", cwd=tmp_path).stdout
    assert "which is after the reading: not used" in " ".join(later.split())


@pytest.mark.parametrize(
    ("owners", "told"),
    [
        ("ada@x.example bea@x.example gone@x.example", '2 would be found by mail: by = "mail" in the map'),
        ("7 8 99", '2 would be found by stable-id: by = "stable-id" in the map'),
        ("ADA Bea", "2 would be found in other letters: ignore-case = true in the map"),
        ("ada gone@x.example nobody", ""),
        ("x@x.example y@x.example bea@x.example", ""),
    ],
)
def test_rows_that_name_nobody_say_by_what_they_would(tmp_path: Path, owners: str, told: str) -> None:
    """When they are tried, when they are read, and in the gaps of a judging; only where most would be found."""
    keys = "".join(f"{owner},k{number}\n" for number, owner in enumerate(owners.split()))
    write(
        tmp_path,
        {
            "people.csv": "uid,no,mail\nada,7,ada@x.example\nbea,8,bea@x.example\ncem,9,\n",
            "keys.csv": "Owner,Key\n" + keys,
            "map.toml": '[account.columns]\nname = "uid"\nstable-id = "no"\nmail = "mail"\n'
            '[key.columns]\naccount = "Owner"\nkey = "Key"\n',
            "estate.toml": 'organisation = "O"\nclock = "UTC"\nrulebook = "base"\n[source.d]\nread = "csv"\n'
            'map = "map.toml"\nfiles = { account = "people.csv", key = "keys.csv" }\n',
        },
    )
    for words in (("read", "--dry-run"), ("read",), ("judge",)):
        said = " ".join(run(*words, cwd=tmp_path, expect=3).stdout.split())
        assert "that are not there" in said or "that is not there" in said
        assert (told in said) if told else ("would be found" not in said), words


def test_what_is_carried_is_told_as_it_was_read(railway: Path) -> None:
    """Of a source that is not read anew, only what its readers gave: nothing that is worked out."""
    told = run("read", "--only", "staff", "--at", RAILWAY_AT, cwd=railway).stdout
    assert "way-in" not in told and "423 accounts" in told
    manifests = sorted(railway.glob("snapshots/*/manifest.json"))
    first, second = (json.loads(path.read_text())["tables"] for path in manifests)
    assert {name: table["rows"] for name, table in first.items()} == {
        name: table["rows"] for name, table in second.items()
    }
