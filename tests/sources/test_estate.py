"""The estate file, and putting its sources together."""

from __future__ import annotations

import importlib.util
from datetime import timedelta
from pathlib import Path

import msgspec
import pytest

from keymallet.core.base.problems import KeymalletError
from keymallet.core.facts.evidence import ACCOUNT_ROW, UNREAD
from keymallet.sources.estate import read_estate
from keymallet.sources.sections import READERS, SourceSection
from tests.support import AT, read_and_link, run, write

HEAD = 'organisation = "O"\nclock = "UTC"\nrulebook = "r.toml"\n'
FEDERATED = '[[federation]]\nsource = "{}"\nproven-by = "{}"\nby = "{}"\n'
SOURCE = '[source.d]\nread = "csv"\nmap = "m.toml"\nfiles = { account = "a.csv" }\n'


def problems_of(folder: Path, text: str) -> list[tuple[int, str, str]]:
    write(folder, {"estate.toml": text})
    with pytest.raises(KeymalletError) as raised:
        read_estate(folder / "estate.toml")
    return [(p.place.line, p.message, p.hint) for p in raised.value.problems if p.place]


@pytest.mark.parametrize(
    ("text", "line", "message", "hint"),
    [
        (HEAD.replace("UTC", "Mars") + SOURCE, 2, '"Mars" is no time zone', "Europe/Zurich"),
        (HEAD + SOURCE.replace("csv", "cvs"), 5, 'read = "cvs"', 'did you mean "csv"?'),
        (HEAD + '[source.d]\nmap = "x"', 4, '"read" is missing', "csv, host"),
        (HEAD + SOURCE + SOURCE, 8, "this is not TOML", "only once"),
        (HEAD + SOURCE.replace("source.d", 'source."A b"'), 4, "cannot name a source", "hyphens"),
        (HEAD + SOURCE + 'stale-after = "soon"', 8, '"soon" is no length of time', "36h"),
        (HEAD + SOURCE.replace("map", "maap"), 6, 'no setting "maap"', 'did you mean "map"?'),
        (HEAD + "[source.h]\nread = 'host'\nfolder = 'x'\npam = '1.6'", 7, "Invalid enum value '1.6'", ""),
        (HEAD, 1, '"source" is missing', ""),
        (HEAD + "source = 3", 4, "this has to be a table", ""),
        (HEAD + "[source]\n", 4, "no source is named", "[source.some-name]"),
        (SOURCE, 1, '"organisation" is missing', ""),
        (HEAD + SOURCE + FEDERATED.format("dd", "d", "name"), 9, '"dd" is none of', 'did you mean "d"?'),
        (HEAD + SOURCE + FEDERATED.format("d", "e", "name"), 10, '"e" is none of', "there are: d"),
        (HEAD + SOURCE + FEDERATED.format("d", "d", "name"), 10, "cannot prove its own", "name another"),
        (HEAD + SOURCE + FEDERATED.format("d", "d", "login"), 11, '"login" is none of', "stable-id"),
        (HEAD + SOURCE + '[[federation]]\nsource = "d"', 8, "proven-by", ""),
        (HEAD.replace('"r.toml"', "[]") + SOURCE, 3, "no rulebook is named", 'rulebook = "base"'),
        (HEAD.replace('"r.toml"', '["a", "b", "a"]') + SOURCE, 3, '"a" is named twice', ""),
        (HEAD.replace('"r.toml"', "3") + SOURCE, 3, "", ""),
        (HEAD + SOURCE + '[[prefer]]\nrule = "a"\nover = "b"\nreason = " "', 11, "needs a reason", ""),
        (HEAD + SOURCE + '[[prefer]]\nrule = "a"\nreason = "x"', 8, '"over" is missing', ""),
        # A misspelt word in one of several tables is a fault there as well: it would be passed over else.
        (
            HEAD + SOURCE + '[[prefer]]\nrule = "a"\nover = "b"\nraeson = "x"',
            11,
            'no setting "raeson"',
            '"reason"',
        ),
        (
            HEAD + SOURCE + '[[federation]]\nsource = "d"\nproven-by = "d"\nbyy = "mail"',
            11,
            'no setting "byy"',
            '"by"',
        ),
        (HEAD + SOURCE + '[[tie]]\nacount = "mail"\nperson = "mail"', 9, 'no setting "acount"', '"account"'),
        (HEAD + SOURCE + '[[unlocks]]\nby = "desk"\ncause = ["other"]', 10, 'no setting "cause"', '"causes"'),
        (HEAD + "unlocks = [3]\n" + SOURCE, 4, "has to be a table, not a number", ""),
    ],
)
def test_faults_of_the_estate_are_told_at_their_line(
    tmp_path: Path, text: str, line: int, message: str, hint: str
) -> None:
    """All of them, each with what to do."""
    found = problems_of(tmp_path, text)
    assert any(number == line and message in said and hint in told for number, said, told in found), found


def test_a_missing_file_suggests_its_neighbour(tmp_path: Path) -> None:
    """The name that is there and nearly right."""
    write(
        tmp_path,
        {"estate.toml": HEAD + SOURCE, "m.toml": "[account.columns]\nname='L'\n", "aa.csv": "L\nx\n"},
    )
    with pytest.raises(KeymalletError) as raised:
        read_and_link(tmp_path / "estate.toml")
    assert 'did you mean "aa.csv"?' in raised.value.problems[0].hint


def test_sources_are_put_together_and_rows_find_their_accounts(tmp_path: Path) -> None:
    """The same name in two sources is two accounts; a row without its account is kept and remarked on."""
    column_map = """
[account.columns]
name = "L"
last-sign-in = "S"
[key.columns]
account = "L"
key = "K"
"""
    sources = "".join(
        f'[source.{name}]\nread = "csv"\nmap = "m.toml"\nstale-after = "2d"\nfiles = {{ account = "{name}.csv", key = "k{name}.csv" }}\n'
        for name in ("one", "two")
    )
    ahead = (AT + timedelta(seconds=1)).isoformat()
    write(
        tmp_path,
        {
            "estate.toml": HEAD + sources,
            "m.toml": column_map,
            "one.csv": f"L,S\na,2026-01-01T00:00:00Z\nb,{ahead}\n",
            "two.csv": "L,S\nb,\na,\n",
            "kone.csv": "L,K\nb,k1\ngone,k2\n",
            "ktwo.csv": "L,K\na,k3\n",
        },
    )
    linked = read_and_link(tmp_path / "estate.toml")
    accounts, keys = linked.tables["account"], linked.tables["key"]
    assert accounts["account"].to_list() == ["one/a", "one/b", "two/b", "two/a"]
    assert keys.select("account", "key", ACCOUNT_ROW).rows() == [
        (None, "k1", 1),
        ("one/gone", "k2", None),
        (None, None, 0),
        (None, "k3", 3),
    ], "of one/a it is not known that it has no key: the stray one may be its"
    assert accounts["last-sign-in"].null_count() == 3, "what lies after the reading is not known"
    assert accounts[UNREAD].to_list()[:2] == [[], ["last-sign-in"]]
    one = linked.readings[0]
    assert one.intake["account"].unreadable == 1
    assert "lies after the reading" in one.intake["account"].unreadable_cells[0].reason
    assert one.intake["key"].stray_names == ["gone"]


def test_accounts_of_people_find_their_person(tmp_path: Path) -> None:
    """By the login name, in the source that is named; a service of that name is nobody."""
    accounts = '[account.columns]\nname = "L"\nperson = "P"\n'
    sources = """
[source.staff]
read = "csv"
map = "m.toml"
files = { account = "staff.csv" }
[source.vm]
read = "host"
folder = "vm"
persons = "staff"
kinds = { "svc" = "service", "*" = "person" }
"""
    passwd = "".join(
        f"{name}:x:{1000 + place}:1::/:/bin/sh\n" for place, name in enumerate(("b", "new", "svc", "a"))
    )
    files = {"estate.toml": HEAD + sources, "m.toml": accounts, "staff.csv": "L,P\na,17\nb,\nsvc,9\n"}
    write(tmp_path, {**files, "vm/etc/passwd": passwd})
    linked = read_and_link(tmp_path / "estate.toml")
    assert linked.tables["account"]["person"].to_list() == ["17", None, "9", None, None, None, "17"]
    assert linked.readings[1].supply["account"]["person"] == "tied by name = login in staff"
    write(tmp_path, {"estate.toml": HEAD + sources.replace('persons = "staff"', 'persons = "stuff"')})
    with pytest.raises(KeymalletError) as raised:
        read_estate(tmp_path / "estate.toml")
    assert raised.value.problems[0].message == 'there is no source "stuff"'
    assert raised.value.problems[0].hint == 'did you mean "staff"?'


@pytest.mark.parametrize("word", READERS)
def test_every_section_says_what_all_sections_say(word: str) -> None:
    """How old, how long, whose persons: declared once, and no reader can forget it."""
    assert issubclass(READERS[word].section, SourceSection)
    shared = {field.encode_name for field in msgspec.structs.fields(SourceSection)}
    assert shared <= {field.encode_name for field in msgspec.structs.fields(READERS[word].section)}
    assert importlib.util.find_spec(READERS[word].module) is not None


def test_what_a_system_has_no_notion_of_is_none(tmp_path: Path) -> None:
    """Rights of a directory or a host have no end and are not opened for a time: privilege is decided."""
    write(
        tmp_path,
        {
            "estate.toml": HEAD
            + '[source.one]\nread = "ldif"\nfiles = "d.ldif"\nprivileged-groups = ["keepers"]\n'
            '[source.vm]\nread = "host"\nfolder = "vm"\n',
            "d.ldif": "dn: uid=a,o=x\nobjectClass: account\nuid: a\n\ndn: uid=b,o=x\nobjectClass: account\nuid: b\n\n"
            "dn: cn=keepers,o=x\nobjectClass: groupOfNames\ncn: keepers\nmember: uid=a,o=x\n",
            "vm/etc/passwd": "root:x:0:0::/root:/bin/sh\nc:x:1000:1000::/home/c:/bin/sh\nd:x:1001:1001::/:/bin/sh\n",
            "vm/etc/shadow": "root:*:1:0:::::\nc:*:1:0:::::\nd:*:1:0:::::\n",
            "vm/etc/group": "root:x:0:\n",
            "vm/etc/sudoers": "c ALL=(ALL) ALL\n",
            "r.toml": 'title = "T"\n[rule.r]\ntitle = "R"\nmust = "enabled"\nseverity = "low"\n',
        },
    )
    run("read", cwd=tmp_path)
    told = {
        expression: run(
            "who", expression, "--columns", "account", "--format", "csv", cwd=tmp_path, expect=0
        ).stdout.split()[1:]
        for expression in ("privileged", "not privileged")
    }
    assert told == {"privileged": ["one/a", "vm/root", "vm/c"], "not privileged": ["one/b", "vm/d"]}
