"""`keymallet vet`: the railway's batch against what was planted in it, other formats, bad input, after loading."""

from __future__ import annotations

import csv
import io
import json
import os
import random
import re
import shutil
import string
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from keymallet.core.vetting import first_passwords
from tests.profiles import examples
from tests.support import run, run_installed, write

AT = ("--at", "2026-11-24T09:00Z")
NEW_RULES = ("new-", "first-password-")
BESIDES = {
    ("r.verdorf", "unit-differs"),
    ("x.dorf", "ended-still-enabled"),
    ("y.egger", "temporary-has-end"),
    ("b.hofer", "admin-strong-factor"),
    ("b.hofer", "privilege-through-groups"),
    ("d.jenal", "second-factor-asked"),
}
"""What the railway's rules on accounts that exist say of the first day of rows with a fault."""

ESTATE = """
organisation = "Lantern Harbour"
clock = "Europe/Zurich"
rulebook = "ours.toml"
[source.hall]
read = "csv"
map = "hall.toml"
files = { account = "hall.csv", setting = "settings.csv" }
[source.staff]
read = "csv"
map = "staff.toml"
files = { person = "staff.csv" }
"""
HARBOUR = {
    "estate.toml": ESTATE,
    "ours.toml": 'title = "Ours"\ninclude = ["new-accounts"]\n',
    "hall.toml": '[account]\nabsent = ["starts"]\n[account.columns]\nname = "login"\nperson = "no"\nunit = "unit"\n'
    'mail = "mail"\ngroups = "groups"\nstable-id = "id"\nenabled = "on"\nkind = "kind"\n'
    '[setting.columns]\nsetting = "policy"\nmin-length = "least"\nclasses = "sorts"\n',
    "hall.csv": "login,no,unit,mail,groups,id,on,kind\nm.quay,1,Quay,m.quay@harbour.example,crew,7,yes,person\n"
    "o.mole,2,Mole,o.mole@harbour.example,crew;dock,8,yes,person\n",
    "settings.csv": "policy,least,sorts\neverybody,12,3\n",
    "staff.toml": '[person.columns]\nperson = "no"\nname = "name"\nmail = "mail"\nunit = "unit"\nstatus = "status"\njoins = "from"\nleaves = { from = "to", plain = "through" }\ncontract = "sort"\n',
    "staff.csv": "no,name,mail,unit,status,from,to,sort\n"
    "1,Moss Quay,m.quay@harbour.example,Quay,present,2020-01-01,,staff\n"
    "2,Otto Mole,o.mole@harbour.example,Mole,present,2020-01-01,,staff\n"
    + "".join(
        f"{n},Person {n},p{n}@harbour.example,Quay,expected,2026-11-26,,staff\n" for n in range(10, 60)
    ),
    "batch.toml": """
[target]
source = "hall"
required = ["mail", "person"]
name-pattern = '[a-z][.][a-z]+'
longest = { name = 12 }
[account.columns]
name = "Login"
display = "Name"
mail = "Mail"
person = "No"
unit = "Unit"
manager = "Boss"
starts = { from = "From", formats = ["%d.%m.%Y"] }
enabled = "On"
password-must-change = "Change"
kind = { always = "person" }
[planned.columns]
account = "Login"
password = "Password"
""",
}
"""An estate of another scenario: a harbour with two accounts, fifty people to come, and the map of a batch."""
HEADER = ("Login", "Name", "Mail", "No", "Unit", "Boss", "From", "On", "Change", "Password")


@pytest.fixture(scope="module")
def harbour(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The harbour, read. Not to be changed but by files of a batch."""
    folder = tmp_path_factory.mktemp("harbour")
    write(folder, HARBOUR)
    run("read", "--at", "2026-11-23", cwd=folder, expect=0)
    return folder


def vetted(folder: Path, *words: str, expect: int | None = None) -> list[dict[str, str]]:
    done = run("vet", *words, *AT, "--format", "csv", cwd=folder, expect=expect)
    return list(csv.DictReader(io.StringIO(done.stdout)))


def broken(rows: list[dict[str, str]]) -> set[tuple[str, str]]:
    return {(row["name"], row["rule"]) for row in rows if row["rule"] and row["verdict"] == "breach"}


def test_the_railways_batch_is_what_was_planted(four_weeks: Path) -> None:
    """Each planted fault and no other; rows in good order are ready; the program itself says so and ends with 1."""
    folder = four_weeks / "there"
    rows = vetted(folder, "joiners.csv", "--map", "joiners.toml", expect=1)
    with (folder / "ground-truth-joiners.csv").open(encoding="utf-8") as file:
        truth = {(row["line"], row["login"], row["rule"]) for row in csv.DictReader(file)}
    found = {(row["line"], row["name"], row["rule"]) for row in rows if row["rule"]}
    assert {each for each in found if each[2].startswith(NEW_RULES)} == truth
    assert {each[1:] for each in found - truth} == BESIDES
    ready = [row["name"] for row in rows if row["result"] == "ready"]
    assert len(ready) == 15 and not {login for _, login, _ in truth} & set(ready)
    told = run_installed("vet", "joiners.csv", "--map", "joiners.toml", *AT, cwd=folder, expect=1).stdout
    assert "40 planned accounts for directory" in told and "15 ready · 25 fix first · 0 cannot tell" in told


def test_judging_knows_nothing_of_planned_accounts(four_weeks: Path) -> None:
    """Rules on them are in the rulebook, and in no run."""
    told = run("judge", *AT, "--all", cwd=four_weeks / "there").stdout
    assert "new-name-free" not in told and "planned" not in told


# round trip

_SIGNS = string.ascii_letters + string.digits + "#%+-=?"


def _password(chance: random.Random) -> str:
    return "aB3" + "".join(chance.choice(_SIGNS) for _ in range(15))


def _good_row(number: int, chance: random.Random) -> dict[str, str]:
    login = f"{chance.choice('abcdefgh')}.n{''.join(chance.choice('klmprst') for _ in range(7))}"
    return {
        "Login": login,
        "Name": f'Person "{number}", the new',
        "Mail": f"p{number}@harbour.example",
        "No": str(number),
        "Unit": "Quay",
        "Boss": "m.quay",
        "From": "26.11.2026",
        "On": "yes",
        "Change": "yes",
        "Password": _password(chance),
    }


FAULTS: dict[str, tuple[str, str]] = {
    "taken": ("Login", "M.QUAY"),
    "long": ("Login", "z.abcdefghijklmn"),
    "pattern": ("Login", "Nobody9"),
    "mail": ("Mail", "O.Mole@harbour.example"),
    "no mail": ("Mail", ""),
    "damaged": ("Name", "J\u00c3\u00b6rg"),
    "stranger": ("No", "9999"),
    "unit": ("Unit", "Kway"),
    "boss": ("Boss", "nobody"),
    "past": ("From", "26.10.2026"),
    "early": ("From", "26.12.2026"),
    "unchanged": ("Change", "no"),
    "guessable": ("Password", "Winter2026!Harbour"),
    "short": ("Password", "x9#Kq"),
    "unknown": ("Change", ""),
    "not read": ("From", "soon"),
}
"""A cell, and what is wrong in it."""


@st.composite
def batches(draw: st.DrawFn) -> tuple[list[dict[str, str]], list[dict[str, str]]]:
    """A batch in good order, and the same with faults planted in some rows."""
    chance = random.Random(draw(st.integers(0, 10**9)))
    good = [_good_row(number, chance) for number in chance.sample(range(10, 60), draw(st.integers(1, 12)))]
    faulty = [dict(row) for row in good]
    for row in faulty:
        for name in draw(st.lists(st.sampled_from(sorted(FAULTS)), max_size=3, unique=True)):
            cell, wrong = FAULTS[name]
            row[cell] = wrong
    if len(faulty) > 1 and draw(st.booleans()):
        faulty[1]["Password"] = faulty[0]["Password"]
    return good, faulty


def _written(rows: list[dict[str, str]], end: str, mark: str) -> str:
    text = io.StringIO(newline="")
    writer = csv.DictWriter(text, HEADER, delimiter=mark, lineterminator=end)
    writer.writeheader()
    writer.writerows(rows)
    return text.getvalue()


@given(batches(), st.sampled_from(["\n", "\r\n"]), st.sampled_from([";", ",", "\t"]))
@examples(25)
def test_corrected_by_its_remarks_a_batch_is_ready(
    harbour: Path, batch: tuple[list[dict[str, str]], list[dict[str, str]]], end: str, mark: str
) -> None:
    """Only the cells that remarks name are corrected; nothing else differs, byte for byte; then all is ready."""
    good, faulty = batch
    written = _written(faulty, end, mark)
    (harbour / "b.csv").write_text(written, "utf-8", newline="")
    (harbour / "r.csv").unlink(missing_ok=True)
    words = ("vet", "b.csv", "--map", "batch.toml", *AT)
    run(*words, "--fixed", "r.csv", cwd=harbour)
    data = (harbour / "r.csv").read_bytes().decode()
    remarked = list(csv.DictReader(io.StringIO(data, newline=""), delimiter=mark))
    # Without the last cell of each record, the file is what it was.
    assert [{name: row[name] for name in HEADER} for row in remarked] == faulty
    stripped = re.sub(rf"{mark}(?:\"(?:[^\"]|\"\")*\"|[^{mark}\"\r\n]*)(?=\r?\n)", "", data)
    assert stripped == written
    changed = 0
    for row, was in zip(remarked, good, strict=True):
        named = {
            cell
            for each in re.findall(r"(?:^|; )([A-Z][A-Za-z +]*): ", row["remarks"])
            for cell in each.split(" + ")
        }
        named |= {
            cell for each in re.findall(r"rest on it: ([^;]*)", row["remarks"]) for cell in each.split(", ")
        }
        wrong = {name for name in HEADER if row[name] != was[name]}
        # The name of a row with the same password is not at fault in both, and may be named in either.
        assert wrong <= named or not wrong, (row, wrong)
        changed += len(wrong)
        row |= {name: was[name] for name in named & set(HEADER)}
    text = io.StringIO(newline="")
    writer = csv.DictWriter(text, [*HEADER, "remarks"], delimiter=mark, lineterminator=end)
    writer.writeheader()
    writer.writerows(remarked)
    (harbour / "r.csv").write_text(text.getvalue(), "utf-8", newline="")
    told = run("vet", "r.csv", *words[2:], cwd=harbour)
    assert told.returncode == 0, told.stdout
    assert f"{len(good)} ready · 0 fix first · 0 cannot tell" in told.stdout
    if not changed:
        assert all(not row["remarks"] for row in remarked)


# secrets


def secrets() -> Iterator[str]:
    chance = random.Random(50)
    for number in range(50):
        yield f"{''.join(chance.choice(_SIGNS) for _ in range(9))}{number}"


@pytest.fixture
def planted(harbour: Path, tmp_path: Path) -> tuple[Path, list[str]]:
    """A batch with fifty passwords, some of them in the wrong cells, in a copy of the harbour."""
    folder = tmp_path / "harbour"
    shutil.copytree(harbour, folder)
    chance, words = random.Random(7), list(secrets())
    rows = []
    for place, secret in enumerate(words):
        row = _good_row(10 + place, chance) | {"Password": secret}
        if place % 10 == 3:
            row |= {"From": secret, "On": secret}
        if place % 10 == 4:
            row |= {"Change": secret, "Login": ""}
        if place % 10 == 5:
            row["Password"] = words[0]
            row["Password"] += "\nsecond line" if place == 5 else ""
        rows.append(row)
    (folder / "b.csv").write_text(_written(rows, "\n", ",") + "one,cell,too\n", "utf-8")
    return folder, words


def left_behind(folder: Path) -> str:
    """All that stands in a folder, names of files included, but the batch and what is written of it by request."""
    parts = []
    for path in sorted(folder.rglob("*")):
        if path.is_file() and path.name not in ("b.csv", "r.csv"):
            parts += [str(path), path.read_bytes().decode("latin-1")]
    return "\n".join(parts)


def test_first_passwords_come_out_nowhere(
    planted: tuple[Path, list[str]], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Fifty of them: in no output, in no format, in no file that is left, and in no report of a fault."""
    folder, words = planted
    temporary = tmp_path / "tmp"
    temporary.mkdir()
    monkeypatch.setenv("TMPDIR", str(temporary))
    monkeypatch.setattr("tempfile.tempdir", str(temporary))
    said = []
    for more in (
        (),
        ("--all",),
        ("--format", "json"),
        ("--format", "jsonl"),
        ("--format", "csv"),
        ("--loaded",),
    ):
        done = run("vet", "b.csv", "--map", "batch.toml", *AT, *more, cwd=folder)
        said += [done.stdout, done.stderr]
    run("vet", "b.csv", "--map", "batch.toml", *AT, "--fixed", "r.csv", cwd=folder)
    assert (folder / "r.csv").stat().st_mode & 0o077 == 0
    told = "\n".join([*said, left_behind(folder), left_behind(temporary)])
    assert [word for word in words if word in told] == []
    # The column slipped: what stands where a date is wanted is told by its length, if at all.
    assert "not read" in told or "unknown" in told


def test_a_fault_of_the_program_tells_no_first_password(
    planted: tuple[Path, list[str]], tmp_path: Path
) -> None:
    """The installed program fails in the midst of looking at passwords: what it leaves names none."""
    folder, words = planted
    site = tmp_path / "site"
    site.mkdir()
    (site / "sitecustomize.py").write_text(
        "import keymallet.core.vetting.first_passwords as looked\n"
        "def fails(password):\n    raise ValueError(f'cannot estimate {password}')\n"
        "looked._estimated = fails\n"
    )
    temporary = tmp_path / "tmp"
    temporary.mkdir()
    done = run_installed(
        "vet", "b.csv", "--map", "batch.toml", *AT, cwd=folder, expect=2,
        PYTHONPATH=str(site), TMPDIR=str(temporary),
    )  # fmt: skip
    assert first_passwords is not None and any(temporary.iterdir())
    told = "\n".join([done.stdout, done.stderr, left_behind(folder), left_behind(temporary)])
    assert [word for word in words if word in told] == []


# other formats

LDIF = """version: 1

dn: uid=a.new,ou=people,dc=harbour,dc=example
changetype: add
objectClass: inetOrgPerson
uid: a.new
cn: Anna New
sn: New
mail: m.quay@harbour.example
ou: Quay
manager: uid=m.quay,ou=people,dc=harbour,dc=example
userPassword: Sommer2026

# the second
dn: uid=m.quay,ou=people,dc=harbour,dc=example
changetype: add
objectClass: inetOrgPerson
uid: m.quay
cn:: SsODwrZyZw==
sn: M
manager: uid=nobody,dc=x
userPassword: {SSHA}c29tZXRoaW5n

dn: cn=crew,ou=groups,dc=harbour,dc=example
changetype: modify
add: member
member: uid=a.new,ou=people,dc=harbour,dc=example
-

dn: uid=x,dc=harbour,dc=example
changetype: delete
"""
BULK = """{"schemas": ["urn:ietf:params:scim:api:messages:2.0:BulkRequest"],
 "Operations": [
  {"method": "POST", "path": "/Users", "bulkId": "1", "data": {"userName": "a.new", "password": "Sommer2026"}},
  {"method": "POST", "path": "/Users", "bulkId": "2", "data": {"userName": "a.new", "password": "Sommer2026",
     "active": true, "emails": [{"value": "o.mole@harbour.example"}]}},
  {"method": "POST", "path": "/Users", "bulkId": "3", "data": {"displayName": "No Name"}},
  {"method": "PATCH", "path": "/Groups/7", "data": {"Operations": [
     {"op": "add", "path": "members", "value": [{"value": "bulkId:1"}]}]}},
  {"method": "DELETE", "path": "/Users/9", "data": {}}
 ]}
"""


def test_records_of_ldif_that_add_are_looked_at(harbour: Path) -> None:
    """By the attributes' names, a group that members are added to, what asks for something else; remarks as comments."""
    write(harbour, {"b.ldif": LDIF})
    (harbour / "r.ldif").unlink(missing_ok=True)
    rows = vetted(harbour, "b.ldif", "--into", "hall", "--fixed", "r.ldif", expect=1)
    found = broken(rows)
    assert {("m.quay", "new-name-free"), ("a.new", "new-mail-free"), ("m.quay", "new-letters-whole")} <= found
    assert {("a.new", "first-password-not-guessable"), ("m.quay", "new-manager-known")} <= found
    # Hashed already, so nothing is told of it; a manager by DN is one; the group is in use.
    assert not {each for each in found if each[0] == "m.quay" and each[1].startswith("first-")}
    assert not {("a.new", "new-manager-known"), ("a.new", "new-groups-exist")} & found
    assert "another change than to add: delete" in {row["because"] for row in rows if not row["rule"]}.pop()
    remarked = (harbour / "r.ldif").read_text("utf-8")
    assert "".join(line for line in remarked.splitlines(True) if not line.startswith("# remarks: ")) == LDIF
    assert remarked.count("# remarks: ") == 3
    again = vetted(harbour, "r.ldif", "--into", "hall", expect=1)
    assert broken(again) == found


def test_bulk_requests_are_looked_at(harbour: Path) -> None:
    """Users that would be created, by operation; a remark is a member of the operation, and read as nothing."""
    write(harbour, {"b.json": BULK})
    (harbour / "r.json").unlink(missing_ok=True)
    rows = vetted(harbour, "b.json", "--into", "hall", "--fixed", "r.json", expect=1)
    found = broken(rows)
    assert {("a.new", "new-name-once"), ("a.new", "first-password-own"), ("a.new", "new-mail-free")} <= found
    assert ("", "new-required") in found
    remarked = (harbour / "r.json").read_text("utf-8")
    whole = json.loads(remarked)
    for operation in whole["Operations"]:
        operation.pop("remarks", None)
    assert whole == json.loads(BULK)
    assert re.sub(r'"remarks": "(?:[^"\\]|\\.)*", ', "", remarked) == BULK
    assert "remarks" not in json.loads(remarked)["Operations"][3]
    assert broken(vetted(harbour, "r.json", "--into", "hall", expect=1)) == found


RECORDS: list[dict[str, Any]] = [
    {"Login": "a.nord", "Mail": "p10@harbour.example", "No": "10", "On": True},
    {"Login": "m.quay", "Mail": "p11@harbour.example", "No": "11", "On": True},
    {"Login": "m.quay", "Mail": "p11@harbour.example", "No": "11", "On": True},
]
SMALL_MAP = """
[target]
source = "hall"
[account.columns]
name = "Login"
mail = "Mail"
person = "No"
enabled = "On"
manager = { always = "m.quay" }
kind = { always = "person" }
"""


@pytest.mark.parametrize("form", ["lines", "list", "one line"])
def test_json_of_any_form(harbour: Path, form: str) -> None:
    """Records a line each, in a list, or all on one line; equal ones are told apart."""
    lines = [json.dumps(each) for each in RECORDS]
    text = {"lines": "\n".join(lines) + "\n", "list": "[\n  " + ",\n  ".join(lines) + "\n]\n",
            "one line": json.dumps(RECORDS)}[form]  # fmt: skip
    write(harbour, {"b.json": text, "small.toml": SMALL_MAP})
    (harbour / "r.json").unlink(missing_ok=True)
    words = ("--map", "small.toml")
    rows = vetted(harbour, "b.json", *words, "--fixed", "r.json", expect=1)
    assert {rule for _, rule in broken(rows)} == {
        "new-name-free",
        "new-name-once",
        "new-person-once",
        "new-mail-free",
    }
    remarked = (harbour / "r.json").read_text("utf-8")
    assert re.sub(r'"remarks": "(?:[^"\\]|\\.)*", ', "", remarked) == text
    told = json.loads(remarked) if form != "lines" else [json.loads(line) for line in remarked.splitlines()]
    assert [bool(each["remarks"]) for each in told] == [False, True, True]
    assert [row["result"] for row in rows if row["name"] == "a.nord"] == ["ready"]
    assert all(row["rule"] for row in rows if row["name"] == "m.quay")


def test_text_of_fixed_width(harbour: Path) -> None:
    """Remarks stand behind the last column, and are read as nothing."""
    text = "LOGIN   MAIL\na.nord  p10@harbour.example 10 yes\nm.quay  p11@harbour.example 11 yes\n"
    columns = 'header-line = 1\n[positions]\nLogin = "1-8"\nMail = "9-28"\nNo = "29-31"\nOn = "32-34"\n'
    write(harbour, {"b.txt": text, "fixed.toml": columns + SMALL_MAP})
    (harbour / "r.txt").unlink(missing_ok=True)
    rows = vetted(harbour, "b.txt", "--map", "fixed.toml", "--fixed", "r.txt", expect=1)
    assert broken(rows) == {("m.quay", "new-name-free")}
    first, second, third = (harbour / "r.txt").read_text().splitlines()
    assert [first, second] == text.splitlines()[:2] and third.startswith(
        text.splitlines()[2] + "  # Login: taken by"
    )
    assert broken(vetted(harbour, "r.txt", "--map", "fixed.toml", expect=1)) == broken(rows)


def test_tables_beside_the_accounts(harbour: Path) -> None:
    """Rights and invitations in files of their own; a row that names nobody of the batch is shown."""
    more = '[grant.columns]\naccount = "who"\nrole = "what"\nprivileged = { from = "power" }\n'
    write(harbour, {
        "b.json": json.dumps(RECORDS[:1]),
        "beside.toml": SMALL_MAP + more,
        "rights.csv": "who,what,power\na.nord,harbour master,yes\nnobody,x,no\n",
    })  # fmt: skip
    rows = vetted(harbour, "b.json", "--map", "beside.toml", "--with", "grant=rights.csv", expect=1)
    assert broken(rows) == {("a.nord", "new-no-power")}
    assert "names no account of the batch: nobody" in [row["because"] for row in rows]


def test_lists_beside_the_accounts(harbour: Path) -> None:
    """Groups in a file of their own, a line for each; what the map does not read from there is said."""
    first = SMALL_MAP.replace(
        "[account.columns]", "[[account]]\nif-columns = ['Login', 'Mail']\n[account.columns]"
    )
    second = "[[account]]\nif-columns = ['who', 'team']\n[account.columns]\nname = 'who'\ngroups = 'team'\n"
    write(harbour, {
        "b.json": json.dumps(RECORDS[:1]), "lists.toml": first + second,
        "teams.csv": "who,team\na.nord,crew\nnobody,crew\na.nord,ghosts\n",
    })  # fmt: skip
    words = ("b.json", "--map", "lists.toml", "--with", "groups=teams.csv")
    rows = vetted(harbour, *words, expect=1)
    assert (
        broken(rows) == {("a.nord", "new-groups-exist")}
        and "ghosts" in str(rows)
        and "crew" not in str(broken(rows))
    )
    assert "names no account of the batch: nobody" in [row["because"] for row in rows]
    write(harbour, {"lists.toml": first + second.replace("groups = 'team'", "unit = 'team'")})
    told = run("vet", *words, *AT, cwd=harbour, expect=2).stderr
    assert "teams.csv:1" in told and "does not say which column groups is" in " ".join(told.split())


# bad input


@pytest.mark.parametrize(
    ("words", "files", "told"),
    [
        (("b.csv",), {}, "a map has to say which column is which fact"),
        (
            ("b.csv", "--map", "m.toml"),
            {"m.toml": SMALL_MAP.replace('"hall"', '"hull"')},
            'did you mean "hall"?',
        ),
        (
            ("b.csv", "--map", "m.toml"),
            {"m.toml": SMALL_MAP + "[person.columns]\nperson = 'No'\n"},
            "has no person",
        ),
        (
            ("b.csv", "--map", "m.toml"),
            {"m.toml": "[grant.columns]\naccount = 'Login'\n"},
            "nothing about accounts",
        ),
        (("b.csv", "--map", "m.toml", "--with", "grant"), {"m.toml": SMALL_MAP}, "is no TABLE=FILE"),
        (
            ("b.csv", "--map", "m.toml", "--with", "grant=x"),
            {"m.toml": SMALL_MAP},
            'says nothing about "grant"',
        ),
        (("b.csv", "--map", "m.toml", "--fixed", "b.csv"), {"m.toml": SMALL_MAP}, "this file exists already"),
        (("none.csv", "--map", "m.toml"), {"m.toml": SMALL_MAP}, "none.csv: there is no such file"),
        (("b.csv", "--map", "m.toml"), {"m.toml": SMALL_MAP, "b.csv": ""}, "the file is empty"),
        (
            ("b.csv", "--map", "m.toml"),
            {"m.toml": SMALL_MAP, "b.csv": "Login,No\n"},
            'there is no column "Mail"',
        ),
        (("b.ldif",), {"b.ldif": "nothing\n"}, "b.ldif:1: no entry is added here"),
        (("b.ldif",), {"b.ldif": "dn: a=b\nchangetype: delete\n"}, "another change than to add"),
        (
            ("b.json",),
            {
                "b.json": '{"schemas": ["urn:ietf:params:scim:api:messages:2.0:BulkRequest"], "Operations": []}'
            },
            "no operation creates a user",
        ),
        (
            ("b.csv", "--map", "m.toml"),
            {"m.toml": SMALL_MAP.replace('source = "hall"', 'requires = ["mail"]')},
            'there is no setting "requires" here; did you mean "required"?',
        ),
        (
            ("b.csv", "--map", "m.toml"),
            {"m.toml": SMALL_MAP.replace('source = "hall"', 'required = ["mails"]\nname-pattern = "["')},
            'did you mean "mail"?',
        ),
    ],
)
def test_what_is_wrong_is_said(
    harbour: Path, tmp_path: Path, words: tuple[str, ...], files: dict[str, str], told: str
) -> None:
    """With the file, the line and what to do; nothing is written."""
    folder = tmp_path / "harbour"
    shutil.copytree(harbour, folder)
    for name in ("b.csv", "b.json", "b.ldif"):
        (folder / name).unlink(missing_ok=True)
    write(folder, {"b.csv": "Login,Mail,No,On\na.nord,p10@harbour.example,10,yes\n"} | files)
    before = sorted(path.name for path in folder.iterdir())
    done = run("vet", *words, *AT, cwd=folder, expect=2)
    assert told in " ".join(done.stderr.split()), done.stderr
    assert sorted(path.name for path in folder.iterdir()) == before


def test_no_planned_accounts_in_a_source(harbour: Path, tmp_path: Path) -> None:
    """An estate that names a batch as a source is told what to do."""
    folder = tmp_path / "harbour"
    shutil.copytree(harbour, folder)
    estate = ESTATE.replace('account = "hall.csv"', 'account = "hall.csv", planned = "hall.csv"')
    more = HARBOUR["hall.toml"] + '[planned.columns]\naccount = "login"\n'
    write(folder, {"estate.toml": estate, "hall.toml": more})
    told = run("read", cwd=folder)
    assert "accounts that are about to be made stand in no source" in told.stderr + told.stdout


# after loading


def test_after_loading(harbour: Path, tmp_path: Path) -> None:
    """As asked, differing in what, missing, and there though nobody asked; and what to load again."""
    folder = tmp_path / "harbour"
    shutil.copytree(harbour, folder)
    chance = random.Random(3)
    rows = [
        _good_row(number, chance) | {"Login": f"a.new{'xyz'[place]}"}
        for place, number in enumerate((10, 11, 12))
    ]
    (folder / "b.csv").write_text(_written(rows, "\n", ","), "utf-8")
    words = ("vet", "b.csv", "--map", "batch.toml", "--loaded", "--at", "2026-11-25")
    none = run(*words, cwd=folder, expect=1).stdout
    assert "3 missing" in none and "keymallet read" in none and "no earlier snapshot" in none
    with (folder / "hall.csv").open("a") as file:
        file.write(
            "a.newx,10,Quay,P10@harbour.example,,21,yes,person\na.newy,11,Mole,p11@harbour.example,,22,no,person\n"
        )
        file.write("stowaway,,,,,23,yes,person\n")
    run("read", "--at", "2026-11-25", cwd=folder, expect=0)
    told = run(*words, "--fixed", "again.csv", cwd=folder, expect=1).stdout
    assert "1 as asked · 1 differing · 1 missing · 1 not asked for" in told
    assert "Unit: asked Quay, found Mole" in told and "On: asked yes, found no" in told and "stowaway" in told
    again = list(csv.DictReader(io.StringIO((folder / "again.csv").read_text("utf-8"))))
    assert [row["Login"] for row in again] == ["a.newy", "a.newz"]
    assert again[1]["remarks"] == "missing" and again[0]["remarks"].startswith("Unit: asked Quay")
    listed = json.loads(run(*words, "--format", "json", cwd=folder, expect=1).stdout)
    assert (listed["as-asked"], listed["missing"], listed["not-asked-for"]) == (1, 1, 1)
    assert {row["fact"] for row in listed["rows"] if row["name"] == "a.newy"} == {"unit", "enabled"}


# what a trial as the opposition found


LARK = {
    "desk.csv": "u,n,m,p,g,on\njose\u0301,Jos\u00e9 Vane,jose@lark.example,1,all;riggers,yes\n"
    "m.board,Mona Board,m.board@lark.example,2,all;board-ops,no\nq.stage,Quin Stage,q@lark.example,3,all;board-ops,yes\n",
    "desk.toml": 'absent = ["factor", "key", "elevation", "sign-in"]\n[account.columns]\nname = "u"\ndisplay = "n"\n'
    'mail = "m"\nperson = "p"\ngroups = "g"\nenabled = "on"\nkind = { always = "person" }\n[grant]\nabsent = ["starts",'
    ' "ends"]\n[grant.columns]\naccount = "u"\nrole = "r"\nprivileged = "x"\nvia = "via"\nmode = { always = "standing" }\n',
    "roles.csv": "u,r,x,via\nm.board,rig master,yes,group masters in barons\nq.stage,mixer,yes,direct\n",
    "staff.toml": '[person.columns]\nperson = "p"\nname = "n"\nstatus = "s"\njoins = "j"\nleaves = { from = "l", plain = "through" }\ncontract = "c"\n',
    "staff.csv": "p,n,s,j,l,c\n1,Jos\u00e9 Vane,present,2020-01-01,,staff\n2,Mona Board,left,2020-01-01,2026-10-31,staff\n"
    "3,Quin Stage,present,2020-01-01,,staff\n4,Nell New,expected,2026-12-01,,staff\n5,Otto,expected,2026-12-01,,staff\n",
    "estate.toml": 'organisation = "Lark Street Theatre"\nclock = "Europe/Zurich"\nrulebook = "b.toml"\n[source.desk]\n'
    'read = "csv"\nmap = "desk.toml"\nfiles = { account = "desk.csv", grant = "roles.csv" }\n[source.staff]\nread = "csv"\n'
    'map = "staff.toml"\nfiles = { person = "staff.csv" }\n',
    "b.toml": 'title = "T"\ninclude = ["new-accounts"]\n',
    "none.toml": 'title = "N"\n[rule.x]\ntitle = "X"\nwho = "privileged"\nmust = "enabled"\nseverity = "high"\nadvice = "y"\n',
    "m.toml": '[target]\nsource = "desk"\n[account.columns]\nname = "Login"\nmail = "Mail"\nperson = "No"\nmanager = "Boss"\n'
    'groups = "Groups"\nends = { from = "End", plain = "through" }\nenabled = { always = false }\nkind = { always = "person" }\n',
}
"""A theatre: accents spelt in two ways, a manager who has left, groups that bring privilege in two ways."""


@pytest.fixture(scope="module")
def lark(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("lark")
    write(folder, LARK)
    run("read", "--at", "2026-11-23", cwd=folder, expect=0)
    return folder


@pytest.mark.parametrize(
    ("row", "rules"),
    [
        ("jos\u00e9,j@lark.example,4,q.stage,all,", {"new-name-free"}),
        ("n.new,Q@Lark.example,4,q.stage,all,", {"new-mail-free"}),
        ("n.new,n@lark.example,4,m.board,all,", {"new-manager-known"}),
        ("n.new,n@lark.example,4,M.Board@lark.example,all,", {"new-manager-known"}),
        ("n.new,n@lark.example,4,2,all,", {"new-manager-known"}),
        ("n.new,n@lark.example,4,q.stage,all;board-ops,", {"new-groups-without-power"}),
        ("n.new,n@lark.example,4,q.stage,all;masters,", {"new-groups-without-power", "new-groups-exist"}),
        ("n.new,n@lark.example,4,q.stage,all;barons,", {"new-groups-without-power", "new-groups-exist"}),
        ("n.new,n@lark.example,4,q.stage,all;riggers,", set()),
        ("n.new,n@lark.example,2,q.stage,all,", {"new-person-not-left", "new-person-has-none"}),
        ("n.new,n@lark.example,4,q.stage,all,2026-11-24", set()),
        ("n.new,n@lark.example,4,q.stage,all,2026-11-23", {"new-not-over"}),
        ("n.new,n@lark.example,4,q.stage,all,\no.two,N@lark.example,5,q.stage,all,", {"new-mail-free"}),
    ],
)
def test_answers_worked_out_by_hand(lark: Path, row: str, rules: set[str]) -> None:
    """One fault a row, each the kind that is missed where names are compared as they stand."""
    write(lark, {"b.csv": f"Login,Mail,No,Boss,Groups,End\n{row}\n"})
    rows = vetted(lark, "b.csv", "--map", "m.toml", expect=1 if rules else 0)
    assert {rule for _, rule in broken(rows)} == rules


def test_a_name_arrives_whichever_way_its_accent_is_spelt(lark: Path) -> None:
    """The target has it decomposed: it is there, and differs in its spelling alone."""
    write(lark, {"b.csv": "Login,Mail,No,Boss,Groups,End\njos\u00e9,jose@lark.example,1,,all,\n"})
    told = run("vet", "b.csv", "--map", "m.toml", "--loaded", *AT, cwd=lark, expect=1).stdout
    assert "0 missing" in told and "1 differing" in told


def test_a_map_that_is_not_for_the_file_is_said(lark: Path) -> None:
    """Where no part of it has the columns, that is an error with the columns there are."""
    write(lark, {"b.csv": "Login,Mail\nn.new,n@lark.example\n", "parts.toml": '[target]\nsource = "desk"\n[[account]]\n'
                 'if-columns = ["Other"]\n[account.columns]\nname = "Other"\n'})  # fmt: skip
    told = run("vet", "b.csv", "--map", "parts.toml", *AT, cwd=lark, expect=2).stderr
    assert "none of the parts for account is for this file" in told


def test_nothing_is_ready_that_nobody_looked_at(lark: Path) -> None:
    """A rulebook without rules on planned accounts, a file without a row, a cell that could not be read."""
    write(
        lark,
        {
            "b.csv": "Login,Mail,No,Boss,Groups,End\nn.new,n@lark.example,4,q.stage,all,\n",
            "h.csv": "Login,Mail,No,Boss,Groups,End\n",
        },
    )
    told = run("vet", "b.csv", "--map", "m.toml", "--rulebook", "none.toml", *AT, cwd=lark, expect=3).stdout
    assert "0 ready · 0 fix first · 1 cannot tell" in told and 'include = ["new-accounts"]' in told
    assert "h.csv has no row" in run("vet", "h.csv", "--map", "m.toml", *AT, cwd=lark, expect=3).stdout
    write(lark, {"b.csv": "Login,Mail,No,Boss,Groups,End\nn.new,n@lark.example,4,q.stage,all,soon\n"})
    assert [row["result"] for row in vetted(lark, "b.csv", "--map", "m.toml", expect=3)] == ["cannot tell"]


def test_rows_that_begin_on_many_days(harbour: Path) -> None:
    """Each is judged on its first day or the next of a few, and that is said; what is wrong with one is its own."""
    chance = random.Random(9)
    rows = [
        _good_row(10 + place, chance)
        | {"Login": f"a.n{chr(97 + place)}", "From": f"{1 + place:02}.12.2026", "On": "no"}
        for place in range(24)
    ]
    rows[17]["Unit"] = "Kway"
    write(harbour, {"b.csv": _written(rows, "\n", ",")})
    told = run("vet", "b.csv", "--map", "batch.toml", *AT, cwd=harbour, expect=1).stdout
    assert "23 ready · 1 fix first" in told and "rows begin on 24 days" in told and "line 19  a.nr" in told


def test_a_pipe_is_no_batch(lark: Path) -> None:
    """It is refused at once: it might never end."""
    os.mkfifo(lark / "pipe")
    told = run("vet", "pipe", "--map", "m.toml", *AT, cwd=lark, expect=2).stderr
    assert "pipe: this is a pipe or a device" in told
