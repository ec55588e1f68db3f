"""What no source tells is not taken for good news, in any view."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from tests.support import run, write

AT = ("--at", "2026-11-24T09:00Z")
HEAD = 'organisation = "Larch Clinic"\nclock = "UTC"\nrulebook = "r.toml"\n'
SECTION = '[source.d]\nread = "csv"\nmap = "m.toml"\nfiles = {{ account = "a.csv"{} }}\n'


def estate(folder: Path, columns: str, rows: str, book: str = "", more: str = "", **files: str) -> Path:
    """An export of accounts read once, and a book about nothing of it unless one is given."""
    rules = book or '[rule.r]\ntitle = "R"\nmust = "mail is known"\nseverity = "low"\n'
    write(
        folder,
        {
            "estate.toml": HEAD + SECTION.format(more),
            "m.toml": columns,
            "a.csv": rows,
            "r.toml": f'title = "T"\n{rules}',
            **{name.replace("_", "."): text for name, text in files.items()},
        },
    )
    run("read", *AT, cwd=folder)
    return folder


def told(folder: Path, topic: str) -> str:
    return " ".join(run("view", "--all", topic, *AT, cwd=folder, expect=0).stdout.split())


BARE = '[account.columns]\nname = "L"\nmail = "M"\n'
ROWS = "L,M\na,a@x.example\nb,b@x.example\n"


def test_locks_that_nobody_tells_of(tmp_path: Path) -> None:
    """Not "0 accounts locked" and no more."""
    estate(tmp_path, BARE, ROWS)
    assert "0 accounts locked, 2 not known (data missing)." in told(tmp_path, "lockouts")


def test_passwords_that_nobody_tells_of(tmp_path: Path) -> None:
    """Neither in order, nor one that does not stand out."""
    estate(tmp_path, BARE, ROWS)
    said = told(tmp_path, "passwords")
    assert "2 passwords in use: 2 not known (data missing)." in said and "nothing conspicuous" not in said
    assert "Of 2 accounts among them it is not known whether there is a password in use." in said
    rows = json.loads(run("view", "passwords", *AT, "--format", "json", cwd=tmp_path).stdout)["rows"]
    assert {row["state"] for row in rows} == {"unproven"}
    assert "passwords: " not in run("show", "--all", "a", *AT, cwd=tmp_path).stdout.replace(
        "in order", "passwords: "
    )


def test_a_limit_is_for_those_whom_its_rules_are_for(tmp_path: Path) -> None:
    """The machine's password is older than the limit that people have; the rule leaves it out, so does the view."""
    book = (
        '[limits]\npassword-age = "90d"\n[rule.age]\ntitle = "Age"\nseverity = "low"\ntopic = "passwords"\n'
        'who = "kind = person"\nmust = "age(password-changed) <= limit.password-age"\n'
    )
    columns = (
        '[account.columns]\nname = "L"\nkind = { from = "K", words = { p = "person", s = "service" } }\n'
        'enabled = { always = true }\nhas-password = { always = true }\npassword-changed = "C"\n'
    )
    estate(tmp_path, columns, "L,K,C\na,p,2026-01-01\nb,s,2026-01-01\nc,,2026-01-01\nd,p,2026-11-01\n", book)
    rows = json.loads(run("view", "passwords", *AT, "--format", "json", cwd=tmp_path).stdout)["rows"]
    assert {row["account"]: row["state"] for row in rows} == {
        "d/a": "too old", "d/b": "in order", "d/c": "unproven", "d/d": "in order",
    }  # fmt: skip
    shown = " ".join(run("show", "--all", "b", *AT, cwd=tmp_path).stdout.split())
    assert "too old" not in shown, "one account is told of as all of them are"


def test_keys_of_which_it_is_not_known_whether_they_work(tmp_path: Path) -> None:
    """They are there, and cannot be told."""
    columns = BARE + '[key.columns]\naccount = "L"\nkey = "K"\nkind = { always = "api-key" }\n'
    estate(tmp_path, columns, ROWS, more=', key = "k.csv"', k_csv="L,K\na,k1\n")
    said = told(tmp_path, "temporary")
    assert "1 key or pass that work, or may." in said and "1 not known (data missing)." in said
    assert "Of 2 accounts it is not known whether they are temporary." in said


def test_who_lifts_the_lock_of_whom_it_is_not_known_what_they_may(tmp_path: Path) -> None:
    """Not simply the desk: an administrator's lock takes more."""
    columns = (
        '[account.columns]\nname = "L"\nlocked = "X"\nkind = { always = "person" }\nlocked-until = "U"\n'
    )
    estate(tmp_path, columns, "L,X,U\na,yes,\n")
    (row,) = json.loads(run("view", "lockouts", *AT, "--format", "json", cwd=tmp_path).stdout)["rows"]
    assert row["unlocked by"] == "not known"
    assert "needs the service desk or an administrator" in told(tmp_path, "lockouts")


def test_an_elevation_whose_right_is_not_known(tmp_path: Path) -> None:
    """Said with what is amiss, since it is not in order either."""
    columns = (
        BARE
        + '[elevation.columns]\naccount = "L"\nelevation = "E"\nrole = "R"\nstarts = "S"\nends = "F"\nclosed = "F"\n'
        'outcome = { always = "opened" }\n'
    )
    events = "L,E,R,S,F\na,e1,root,2026-11-20T09:00:00Z,2026-11-20T10:00:00Z\n"
    estate(tmp_path, columns, ROWS, more=', elevation = "e.csv"', e_csv=events)
    done = run("view", "elevation", *AT, "--part", "openings", "--format", "json", cwd=tmp_path, expect=0)
    assert "not known: no right to it" in json.loads(done.stdout)["rows"][0]["problems"]


def test_what_is_pending_shows_in_a_rehearsal(tmp_path: Path) -> None:
    """A stricter limit brings breaches, and findings under grace that become breaches by time alone."""
    book = '[limits]\nage = "100d"\n[rule.age]\ntitle = "Age"\nseverity = "low"\ngrace = "14d"\nmust = "age(password-changed) <= limit.age"\n'
    columns = '[account.columns]\nname = "L"\npassword-changed = "C"\n'
    estate(tmp_path, columns, "L,C\na,2026-08-01\nb,2026-09-20\nc,2026-09-01\nd,2026-11-20\n", book)
    words = ("rehearse", "--set", "limit.age=60d", *AT)
    said = " ".join(run(*words, cwd=tmp_path, expect=0).stdout.split())
    assert "1 + 0 pending" not in said and "1 2 + 1 pending" in said
    assert "and 1 finding would be under grace" in said
    rows = json.loads(run(*words, "--format", "json", cwd=tmp_path).stdout)["changes"]
    assert {(row["change"], row["account"]) for row in rows} == {("newly", "d/c"), ("newly pending", "d/b")}


def test_a_sweep_over_a_limit_of_settings_is_not_flat(tmp_path: Path) -> None:
    """What is in breach is a system, not an account."""
    book = '[limits]\nlock = 10\n[rule.lock]\ntitle = "Lock"\nseverity = "low"\neach = "setting"\nmust = "lock-after <= limit.lock"\n'
    columns = BARE + '[setting.columns]\nsetting = "S"\nlock-after = "N"\n'
    estate(tmp_path, columns, ROWS, book, more=', setting = "s.csv"', s_csv="S,N\none,5\ntwo,20\n")
    done = run("rehearse", "--sweep", "limit.lock=4..24/10", *AT, "--format", "json", cwd=tmp_path, expect=0)
    assert [(row["value"], row["breaches"]) for row in json.loads(done.stdout)["curve"]] == [
        ("4", 2),
        ("14", 1),
        ("24", 0),
    ]


def test_an_empty_password_is_a_password(tmp_path: Path) -> None:
    """Although the source says nothing of passwords, or says that there is none."""
    columns = '[account.columns]\nname = "L"\npassword-empty = "E"\nhas-password = "H"\n'
    estate(tmp_path, columns, "L,E,H\na,yes,no\nb,yes,\nc,no,no\nd,no,yes\n")
    done = run("who", "has-password", *AT, "--columns", "account", "--format", "csv", cwd=tmp_path, expect=0)
    assert done.stdout.split()[1:] == ["d/a", "d/b", "d/d"]


def test_a_span_below_nothing_has_its_sign(tmp_path: Path) -> None:
    """Ended three days before it began."""
    estate(
        tmp_path,
        '[account.columns]\nname = "L"\nstarts = "S"\nends = { from = "E", plain = "until" }\n',
        "L,S,E\na,2026-11-10,2026-11-07\n",
    )
    done = run("who", "ends < starts", *AT, "--columns", "account,ends - starts", cwd=tmp_path, expect=0)
    assert "-3 d" in done.stdout


@pytest.mark.parametrize("form", ["csv", "json"])
def test_a_word_for_none_is_nothing_that_stands_there(tmp_path: Path, form: str) -> None:
    """`only-with` leaves out the rows in which a column says that there is none."""
    rows = [("a", "otp"), ("b", "-"), ("c", "None"), ("d", "")]
    text = "L,F\n" + "".join(f"{login},{factor}\n" for login, factor in rows)
    if form == "json":
        text = json.dumps([{"L": login, "F": factor} for login, factor in rows])
    columns = 'none = ["-", "none"]\n[account.columns]\nname = "L"\n[factor]\nonly-with = "F"\n[factor.columns]\naccount = "L"\nkind = "F"\n'
    write(
        tmp_path,
        {
            "estate.toml": HEAD
            + f'[source.d]\nread = "{form}"\nmap = "m.toml"\nfiles = {{ account = "a", factor = "a" }}\n',
            "m.toml": columns,
            "a": text,
            "r.toml": 'title = "T"\n[rule.r]\ntitle = "R"\nmust = "some factor"\nseverity = "low"\n',
        },
    )
    run("read", *AT, cwd=tmp_path, expect=0)
    found = run("who", "some factor", *AT, "--columns", "account", "--format", "csv", cwd=tmp_path)
    assert found.stdout.split()[1:] == ["d/a"]
