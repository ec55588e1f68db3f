"""Whose an account is, and which systems must agree: ties, the roster, pairs; what is ambiguous is not guessed."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import polars as pl
import pytest

from keymallet.core.base.problems import KeymalletError
from keymallet.core.facts.evidence import CANDIDATES, UNREAD
from keymallet.core.linking.linked import LinkedReadings
from keymallet.core.linking.passes import link
from keymallet.sources.estate import read_estate
from keymallet.sources.reading import read_sources
from tests.support import AT, newest, read_and_link, run, write

HEAD = 'organisation = "Test"\nclock = "UTC"\nrulebook = "rulebook.toml"\n'
ROSTER = "no,name,mail,unit,boss,state\n1,Ada,ada@x.example,Track,2,in\n2,Bo,Bo@X.example,Track,,in\n3,Cy,cy@x.example,Shop,2,out\n"
ROSTER_MAP = """
[person.columns]
person = "no"
name = "name"
mail = "mail"
unit = "unit"
manager = "boss"
status = { from = "state", words = { in = "present", out = "left" } }
"""
ACCOUNT_MAP = """
[account.columns]
name = "login"
mail = "mail"
person = "no"
unit = "unit"
manager = "boss"
kind = { from = "kind", words = { p = "person", s = "service" } }
enabled = "on"
"""
HEADER = "login,mail,no,unit,boss,kind,on\n"


def estate(folder: Path, accounts: str, rest: str = "", **files: str) -> Path:
    """An estate with a directory and a roster; `files` may add exports of other sources, read by the same map."""
    sources = "".join(
        f'[source.{name}]\nread = "csv"\nmap = "a.toml"\nfiles = {{ account = "{name}.csv" }}\n'
        for name in ("directory", *files)
    )
    roster = '[source.staff]\nread = "csv"\nmap = "r.toml"\nfiles = { person = "staff.csv" }\n'
    texts = {"a.toml": ACCOUNT_MAP, "r.toml": ROSTER_MAP, "staff.csv": ROSTER}
    texts["estate.toml"] = HEAD + sources + roster + rest
    texts |= {f"{name}.csv": HEADER + text for name, text in {"directory": accounts, **files}.items()}
    return write(folder, texts)


def linked_estate(folder: Path) -> LinkedReadings:
    return read_and_link(folder / "estate.toml")


def accounts(found: LinkedReadings, *columns: str) -> list[tuple[Any, ...]]:
    return found.tables["account"].select(columns).rows()


def tied(folder: Path, text: str, rest: str) -> list[tuple[Any, ...]]:
    return accounts(linked_estate(estate(folder, text, rest)), "name", "person", "tied-by", "on-roster")


def test_numbers_tie_and_the_roster_knows_them_or_not(tmp_path: Path) -> None:
    """Without any tie declared; a number that nobody has, and none at all, are nobody's."""
    text = "a,,1,,,p,yes\nb,,77,,,p,yes\nc,,,,,p,yes\n"
    assert tied(tmp_path, text, "") == [
        ("a", "1", "number", True),
        ("b", "77", "number", False),
        ("c", None, None, False),
    ]


@pytest.mark.parametrize(
    ("tie", "login", "mail", "person"),
    [
        ('account = "mail"\nperson = "mail"', "x", "ADA@x.example ", "1"),
        ('account = "mail"\nperson = "mail"', "x", "bo@x.example", "2"),
        ('like = "adm-*"\nperson = "mail-name"', "ADM-ada", "", "1"),
        ('like = "adm-*"\nperson = "mail-name"', "ada", "", None),
        ('like = "adm-*"\nperson = "mail-name"', "adm-", "", None),
        ('like = "p*"\nperson = "person"', "p3", "", "3"),
        ('person = "name"', "cy", "", "3"),
        ('like = "*-adm"\nlogin-in = "directory"', "first-adm", "", "1"),
    ],
)
def test_ties_find_the_one_person(
    tmp_path: Path, tie: str, login: str, mail: str, person: str | None
) -> None:
    """By address, by a piece of the login, by the same login elsewhere; in any case of letters."""
    text = f"first,,1,,,p,yes\n{login},{mail},,,,p,yes\n"
    (_, (_, number, by, on_roster)) = tied(tmp_path, text, f"[[tie]]\n{tie}\n")
    assert (number, on_roster) == (person, person is not None)
    assert (by is None) is (person is None)


def test_what_could_be_several_peoples_is_not_guessed(tmp_path: Path) -> None:
    """It is listed with them, it is unknown, not none, and no later tie decides it."""
    roster = ROSTER + "4,Ada Other,ADA@x.example,Shop,2,in\n"
    ties = '[[tie]]\naccount = "mail"\nperson = "mail"\n[[tie]]\nperson = "name"\n'
    folder = estate(tmp_path, "ada,ada@x.example,,,,p,yes\ns,ada@x.example,,,,s,yes\n", ties)
    write(folder, {"staff.csv": roster})
    found = linked_estate(folder)
    assert accounts(found, "name", "person", "on-roster", CANDIDATES, UNREAD) == [
        ("ada", None, None, ["1", "4"], ["person"]),
        ("s", None, False, None, []),
    ]
    told = "not tied, because it could be several people's: ada (1 or 4)"
    assert told in found.readings[0].remarks


def test_ties_are_for_their_sources_and_kinds(tmp_path: Path) -> None:
    """A service account of a person's name is nobody's; a source that no tie covers tells nothing."""
    ties = '[[tie]]\nsources = ["direct*"]\nperson = "name"\nkinds = ["person"]\n'
    folder = estate(tmp_path, "ada,,,,,p,yes\nbo,,,,,s,yes\n", ties, other="cy,,,,,p,yes\n")
    assert accounts(linked_estate(folder), "name", "person") == [("ada", "1"), ("bo", None), ("cy", None)]


def test_managers_are_told_by_their_number(tmp_path: Path) -> None:
    """Where the manager is an account of the same source."""
    text = "a,,1,,b,p,yes\nb,,2,,Somebody Else,p,yes\n"
    assert accounts(linked_estate(estate(tmp_path, text)), "manager") == [("2",), ("Somebody Else",)]


def test_people_of_two_rosters_are_one_person(tmp_path: Path) -> None:
    """The first says; the second is told of."""
    second = '[source.payroll]\nread = "csv"\nmap = "r.toml"\nfiles = { person = "payroll.csv" }\n'
    folder = estate(tmp_path, "a,,1,,,p,yes\n", second)
    write(folder, {"payroll.csv": "no,name,mail,unit,boss,state\n1,Not Ada,,,,out\n9,New,,,,in\n"})
    found = linked_estate(folder)
    assert found.tables["person"].select("person", "name").rows()[-1] == ("9", "New")
    assert found.tables["person"].height == 4
    assert "1 people stand in an earlier roster, which counts: 1" in found.readings[-1].remarks


def test_a_person_that_stands_twice_in_a_roster_is_refused(tmp_path: Path) -> None:
    """With its line."""
    folder = estate(tmp_path, "a,,1,,,p,yes\n")
    write(folder, {"staff.csv": ROSTER + "1,Again,,,,in\n,Nobody,,,,in\n"})
    refusals = linked_estate(folder).readings[1].intake["person"].refusals
    assert [(each.line, each.reason) for each in refusals] == [
        (6, "no person"),
        (5, "this person stood on an earlier line"),
    ]


BOOK = """
title = "T"
[rule.gone]
title = "Who left is switched off"
severity = "high"
who = "kind = person and enabled"
must = "on-roster and person.status != left"
[rule.has-one]
title = "Everybody who works here has an account"
severity = "low"
each = "person"
who = "status = present"
must = "some account (enabled)"
"""


def verdicts(folder: Path, *words: str) -> set[tuple[str, str, str]]:
    told = run("judge", "--format", "csv", *words, cwd=folder).stdout.splitlines()[1:]
    cells = [line.split(",") for line in told]
    return {(row[0], row[3], row[5] or row[4]) for row in cells}


def test_rules_on_people_from_files_to_findings(tmp_path: Path) -> None:
    """Who left, who has no account; `show` says whose an account is, and judges as `judge` does."""
    folder = estate(tmp_path, "a,,1,,,p,yes\nc,,3,,,p,yes\nd,,99,,,p,yes\n")
    write(folder, {"rulebook.toml": BOOK})
    assert verdicts(folder) == {
        ("gone", "breach", "directory/c"),
        ("gone", "breach", "directory/d"),
        ("has-one", "breach", "2 Bo"),
    }
    shown = " ".join(run("show", "--all", "c", cwd=folder, expect=0).stdout.split())
    assert "person 3 on the roster: Cy · Shop · left (tied by number)" in shown
    assert "person's status on the staff list: left; not allowed" in shown
    assert "not on the roster: number 99" in run("show", "--all", "d", cwd=folder, expect=0).stdout
    table = run("judge", "--all", cwd=folder, expect=1).stdout
    assert "people on the roster" in table and "2 Bo  Track" in table


def test_a_roster_that_cannot_be_read_proves_nothing(tmp_path: Path) -> None:
    """Its people are carried as not read: what rests on them is unproven, and nobody is nobody's."""
    folder = estate(tmp_path, "a,,1,,,p,yes\nc,,3,,,p,yes\n", '[[tie]]\nperson = "name"\n')
    write(folder, {"rulebook.toml": BOOK})
    run("read", cwd=folder, expect=0)
    (folder / "staff.csv").unlink()
    told = run("read", cwd=folder, expect=3).stdout
    assert "3 people known from" in " ".join(told.split())
    found = verdicts(folder)
    assert found == {
        ("gone", "unproven", "directory/a"),
        ("gone", "unproven", "directory/c"),
        ("has-one", "unproven", "2"),
    }
    assert newest(folder).evidence().tables["account"]["on-roster"].to_list() == [None, None]


def test_ties_are_made_anew_when_one_source_is_read_alone(tmp_path: Path) -> None:
    """A person found by a tie is not taken for the source's own word afterwards."""
    folder = estate(tmp_path, "x,ada@x.example,,,,p,yes\n", '[[tie]]\naccount = "mail"\nperson = "mail"\n')
    write(folder, {"rulebook.toml": BOOK})
    run("read", cwd=folder, expect=0)
    write(folder, {"staff.csv": ROSTER.replace("ada@", "other@")})
    run("read", "--only", "staff", cwd=folder, expect=0)
    snapshot = newest(folder)
    assert snapshot.evidence().tables["account"].select("person", "on-roster").rows() == [(None, False)]


def test_a_roster_that_shrank_is_asked_about(tmp_path: Path) -> None:
    """As a directory is."""
    folder = estate(tmp_path, "a,,1,,,p,yes\n")
    write(folder, {"rulebook.toml": BOOK})
    run("read", cwd=folder, expect=0)
    write(folder, {"staff.csv": "".join(ROSTER.splitlines(keepends=True)[:2])})
    assert "staff: 1 person where there were 3: 67% fewer" in run("read", cwd=folder, expect=2).stderr


PAIR = '[[pair]]\nsources = ["directory", "cloud"]\nfacts = ["enabled", "unit"]\n'


def twins(folder: Path) -> dict[str, tuple[Any, ...]]:
    found = linked_estate(folder).tables["account"]
    columns = ["account", "twins", "no-twin-in", "twin-differs"]
    return {row[0]: row[1:] for row in found.filter(pl.col("source") != "staff").select(columns).rows()}


def test_a_pair_is_reconciled_both_ways(tmp_path: Path) -> None:
    """Missing here, missing there, and in which fact twins differ, with both values."""
    folder = estate(
        tmp_path,
        "a,,,Track,,p,yes\nb,,,Track,,p,yes\nc,,,,,p,yes\n",
        PAIR,
        cloud="a,,,Track,,p,yes\nb,,,Shop,,p,no\nz,,,,,p,yes\n",
    )
    differ = ["enabled yes, in cloud/b no", "unit Track, in cloud/b Shop"]
    assert twins(folder) == {
        "directory/a": (["cloud/a"], [], []),
        "directory/b": (["cloud/b"], [], differ),
        "directory/c": ([], ["cloud"], []),
        "cloud/a": (["directory/a"], [], []),
        "cloud/b": (
            ["directory/b"],
            [],
            ["enabled no, in directory/b yes", "unit Shop, in directory/b Track"],
        ),
        "cloud/z": ([], ["directory"], []),
    }
    assert "against cloud: 2 in both, 1 not there, 1 differ" in linked_estate(folder).readings[0].remarks


def test_a_system_that_does_not_heed_capitals(tmp_path: Path) -> None:
    """A.Arv and a.arv are twins where the pair says so, and else two that lack one."""
    for more, found in (("", ([], ["cloud"])), ("ignore-case = true\n", (["cloud/A.Arv"], []))):
        folder = estate(tmp_path, "a.arv,,,,,p,yes\n", PAIR + more, cloud="A.Arv,,,,,p,yes\n")
        assert twins(folder)["directory/a.arv"][:2] == found


def test_what_one_side_does_not_tell_is_no_difference(tmp_path: Path) -> None:
    """A fact that the other system's export lacks cannot differ; the pair says that it is not compared."""
    folder = estate(tmp_path, "a,,,Track,,p,yes\nb,,,Shop,,p,no\n", PAIR, cloud="a,,,,,p,yes\nb,,,,,p,yes\n")
    write(
        folder,
        {"c.toml": '[account.columns]\nname = "login"\nkind = { from = "kind", words = { p = "person" } }\n'},
    )
    file = folder / "estate.toml"
    text = file.read_text("utf-8")
    head, cloud = text.split("[source.cloud]")
    file.write_text(head + "[source.cloud]" + cloud.replace('map = "a.toml"', 'map = "c.toml"', 1), "utf-8")
    header = HEADER.strip().split(",")
    write(folder, {"c.toml": f'[account.columns]\nname = "{header[0]}"\n'})
    found = twins(folder)
    assert [found[name][2] for name in ("directory/a", "directory/b", "cloud/b")] == [None, None, None]
    remarks = " ".join(linked_estate(folder).readings[0].remarks)
    assert "enabled, unit cannot be compared: not supplied on both sides" in remarks


def test_a_roster_that_was_cut_short_proves_nobody_missing(tmp_path: Path) -> None:
    """Who is not on what came of it may stand on the rest."""
    folder = estate(tmp_path, "a,,1,,,p,yes\nb,,77,,,p,yes\n")
    readings = [*linked_estate(folder).readings]
    made = read_estate(folder / "estate.toml")
    for cut, expected in ((False, [True, False]), (True, [True, None])):
        fresh = read_sources(made.sources, made, AT)
        for reading in fresh:
            if reading.source == "staff" and cut:
                reading.incomplete.append("the service stopped")
        assert link(fresh, made.linking).tables["account"]["on-roster"].to_list() == expected
    assert len(readings) == 2


def test_only_the_kinds_of_a_pair_need_a_twin(tmp_path: Path) -> None:
    """Services are asked for none; whose kind is not known is."""
    pair = PAIR + 'kinds = ["person"]\n'
    folder = estate(tmp_path, "a,,,,,s,yes\nb,,,,,,yes\n", pair, cloud="z,,,,,s,yes\n")
    assert [twins(folder)[name][1] for name in ("directory/a", "directory/b", "cloud/z")] == [
        None,
        ["cloud"],
        None,
    ]


def test_twins_may_be_known_by_their_person(tmp_path: Path) -> None:
    """Several accounts of one person are all twins; whose person is not known may be anybody's twin."""
    pair = '[[pair]]\nsources = ["directory", "cloud"]\nby = "person"\n'
    ties = '[[tie]]\nsources = ["cloud"]\naccount = "mail"\nperson = "mail"\n'
    folder = estate(
        tmp_path,
        "a,,1,,,p,yes\nb,,2,,,p,yes\n",
        pair + ties,
        cloud="x,ada@x.example,,,,p,yes\ny,ada@x.example,,,,p,yes\n",
    )
    assert twins(folder)["directory/a"][:2] == (["cloud/x", "cloud/y"], [])
    assert twins(folder)["directory/b"][:2] == ([], ["cloud"])
    write(folder, {"staff.csv": ROSTER + "4,Ada Other,ada@x.example,Shop,2,in\n"})
    assert twins(folder)["directory/b"][:2] == (None, None)


def test_a_source_that_was_not_read_leaves_its_twins_open(tmp_path: Path) -> None:
    """Missing is only what is surely not there."""
    folder = estate(tmp_path, "a,,,,,p,yes\nb,,,,,p,yes\n", PAIR, cloud="a,,,,,p,yes\n")
    write(folder, {"rulebook.toml": BOOK})
    run("read", cwd=folder, expect=0)
    (folder / "cloud.csv").unlink()
    run("read", cwd=folder, expect=3)
    snapshot = newest(folder)
    found = snapshot.evidence().tables["account"]
    assert found.filter(pl.col("account") == "directory/b").select("no-twin-in", "twin-differs").row(0) == (
        None,
        None,
    )
    assert found.filter(pl.col("account") == "directory/a").select("twins", "twin-differs").row(0) == (
        ["cloud/a"],
        None,
    )


@pytest.mark.parametrize(
    ("text", "item", "said"),
    [
        ('[[tie]]\nperson = "male"\n', "tie.[1], person", '"male" is none of what it can be'),
        ('[[tie]]\naccount = "title"\nperson = "mail"\n', "tie.[1], account", '"title" is none of what'),
        ("[[tie]]\n", "tie.[1]", "say either person or login-in"),
        ('[[tie]]\nlogin-in = "nowhere"\n', "tie.[1], login-in", '"nowhere" is none of what'),
        ('[[tie]]\nperson = "mail"\nlike = "a*b*"\n', "tie.[1], like", "needs a single *"),
        ('[[tie]]\nperson = "mail"\nsources = ["x"]\n', "tie.[1], sources", "no source is called like that"),
        ('[[pair]]\nsources = ["directory"]\n', "pair.[1], sources", "a pair is of two sources"),
        ('[[pair]]\nsources = ["directory", "x"]\n', "pair.[1], sources, [2]", '"x" is none of what'),
        ('[[pair]]\nsources = ["directory", "staff"]\nby = "unit"\n', "pair.[1], by", '"unit" is none'),
        (
            '[[pair]]\nsources = ["directory", "staff"]\nfacts = ["locked"]\n',
            "pair.[1], facts, [1]",
            '"locked"',
        ),
    ],
)
def test_faults_of_ties_and_pairs_are_told_where_they_stand(
    tmp_path: Path, text: str, item: str, said: str
) -> None:
    """With the place in the estate file."""
    with pytest.raises(KeymalletError) as raised:
        linked_estate(estate(tmp_path, "a,,,,,p,yes\n", text))
    problem = raised.value.problems[0]
    assert problem.place is not None
    assert (problem.place.item, said in problem.message) == (item, True)
    assert problem.place.line > 3


def test_a_map_cannot_give_what_is_worked_out_over_all_sources(tmp_path: Path) -> None:
    """Such as whether somebody stands on the roster."""
    folder = estate(tmp_path, "a,,,,,p,yes\n")
    write(folder, {"a.toml": ACCOUNT_MAP + 'on-roster = "on"\n'})
    with pytest.raises(KeymalletError, match="worked out over all sources"):
        linked_estate(folder)
