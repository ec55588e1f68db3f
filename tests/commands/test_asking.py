"""The commands that ask of a snapshot what is not in a run: who, ahead, rehearse."""

from __future__ import annotations

import csv
import io
import json
from collections import Counter
from pathlib import Path

import icalendar
import pytest

from tests.conftest import RAILWAY_AT
from tests.support import rule, run, write

AT = ("--at", RAILWAY_AT)


def rows(text: str) -> list[dict[str, str]]:
    return list(csv.DictReader(io.StringIO(text, newline="")))


NAMED = """
Login,Name,Mail,Staff no,Type
j.jaeger,Jörg Jäger,joerg@x.example,17,person
adm-jj,,,17,person
a.jaeger,Anna Jäger,anna@x.example,18,person
svc-mail,Mail relay,,,service
"""


@pytest.mark.parametrize(
    ("wanted", "found"),
    [
        ("jorg jager", ["d/j.jaeger"]),  # without accents and capitals
        ("17", ["d/j.jaeger", "d/adm-jj"]),
        pytest.param("RELAY", ["d/svc-mail"], marks=pytest.mark.deep),
        pytest.param("joerg@", ["d/j.jaeger"], marks=pytest.mark.deep),
        pytest.param("Anna", ["d/a.jaeger"], marks=pytest.mark.deep),
    ],
)
def test_an_account_is_found_by_whatever_people_call_it(
    tmp_path: Path, wanted: str, found: list[str]
) -> None:
    """By name, number, or a part that only one has; where several have it, all are named and none is taken."""
    columns = 'name = "Login"\ndisplay = "Name"\nmail = "Mail"\nperson = "Staff no"\nkind = "Type"\n'
    estate = 'organisation = "O"\nclock = "UTC"\nrulebook = "base"\n[source.d]\nread = "csv"\nmap = "m.toml"\nfiles = { account = "a.csv" }\n'
    write(
        tmp_path,
        {"estate.toml": estate, "m.toml": f"[account.columns]\n{columns}", "a.csv": NAMED.strip() + "\n"},
    )
    run("read", cwd=tmp_path)
    shown = run("show", wanted, cwd=tmp_path).stdout
    assert [
        line for line in shown.splitlines() if line in {f"d/{row.split(',')[0]}" for row in NAMED.split()}
    ] == found
    several = run("show", "jäger", cwd=tmp_path, expect=2).stderr
    assert "part of the names of 2 accounts" in several and "d/j.jaeger, d/a.jaeger" in several
    assert "there is no account" in run("show", "jg", cwd=tmp_path, expect=2).stderr


# who


def test_how_many_are_meant_by_what(railway: Path) -> None:
    """The counts are those of the rows themselves; a list counts each of its members."""
    asked = ("who", "enabled and privileged", *AT, "--format", "csv")
    each = rows(run(*asked, "--columns", "source, kind", cwd=railway, expect=0).stdout)
    counted = rows(run(*asked, "--count-by", "source, kind", cwd=railway, expect=0).stdout)
    tally = Counter((row["source"], row["kind"]) for row in each)
    assert {(row["source"], row["kind"]): int(row["count"]) for row in counted} == tally
    assert [int(row["count"]) for row in counted] == sorted(tally.values(), reverse=True)
    shown = run("who", "enabled and privileged", *AT, "--count-by", "source", cwd=railway, expect=0).stdout
    assert f"{len(each)} of 827 accounts" in shown
    groups = rows(
        run("who", "enabled", *AT, "--format", "csv", "--count-by", "groups", cwd=railway, expect=0).stdout
    )
    members = rows(
        run(
            "who", "enabled and groups includes 'all-staff'", *AT, "--format", "csv", cwd=railway, expect=0
        ).stdout
    )
    assert {row["groups"]: row["count"] for row in groups}["all-staff"] == str(len(members))


def test_who_is_meant_by_an_expression(railway: Path) -> None:
    """Any columns, in any order; those of whom it cannot be told are counted."""
    done = run("who", "in-directory and initial-password", *AT, "--columns", "display, age(created), least(created, ends)",
               "--sort", "created", "--format", "csv", cwd=railway, expect=0)  # fmt: skip
    found = rows(done.stdout)
    assert list(found[0]) == ["account", "display", "age(created)", "least(created, ends)"]
    assert found and all(
        row["account"].startswith("directory/") and row["age(created)"].startswith("P") for row in found
    )
    told = json.loads(run("who", "initial-password", *AT, "--format", "json", cwd=railway, expect=0).stdout)
    shown = run("who", "initial-password", *AT, cwd=railway, expect=0).stdout
    assert f"{told['unknown']} more: data missing (--unknown lists them)" in shown
    listed = run("who", "initial-password", "--unknown", *AT, "--format", "csv", cwd=railway, expect=0)
    assert len(rows(listed.stdout)) == told["unknown"]


def test_who_of_other_tables(railway: Path) -> None:
    """Keys, people and settings are picked as accounts are."""
    for table, condition in (
        ("key", "kind = api-key"),
        ("person", "status = left"),
        ("setting", "lock-after is known"),
    ):
        found = rows(
            run("who", condition, "--each", table, *AT, "--format", "csv", cwd=railway, expect=0).stdout
        )
        assert found, table


@pytest.mark.parametrize(
    ("words", "message"),
    [
        (("kind = persn",), 'the expression:1:8\n    kind = persn\n           ^^^^^ "persn" is none'),
        (("enabled", "--columns", "name, age(nam)"), '--columns:1:5\n    age(nam)\n'),
        (("enabled", "--sort", "enabled +"), "the expression ends too early"),
        (("enabled", "--sort", "groups"), "is a list, and has no order; sort by its length(groups)"),
        (("enabled", "--each", "kye"), '--each: there is no table "kye"; did you mean "key"?'),
        (("limit.nope > 3",), 'no limit "nope" is set'),
        (("(" * 300,), "nested more than"),
    ],
)  # fmt: skip
def test_what_cannot_be_asked(railway: Path, words: tuple[str, ...], message: str) -> None:
    """The place, the text, a caret and what was probably meant."""
    assert message in run("who", *words, *AT, cwd=railway, expect=2).stderr


# ahead


def test_ahead_agrees_with_judging_on_that_day(railway: Path) -> None:
    """What is in breach in 30 days is what is now and what turns until then, less what ends by itself."""
    later = "2026-12-24T09:00Z"
    ahead = rows(run("ahead", "--for", "30d", *AT, "--format", "csv", cwd=railway, expect=0).stdout)
    turned = {(row["rule"], row["account"], row["subject"]) for row in ahead}
    now = _breaches(railway, RAILWAY_AT)
    assert turned and not turned & now
    then = _breaches(railway, later)
    assert then - now <= turned
    # What is handed out runs out, locks end, an entry of the register that nobody needs ends too.
    by_itself = ("lock", "near-lockout", "key-outlives", "emergency-for", "exemption-", "pass-", "session-")
    for gone in (now | turned) - then:
        assert gone[0].startswith(by_itself), gone


def _breaches(folder: Path, at: str) -> set[tuple[str, str, str]]:
    done = run("judge", "--at", at, "--format", "csv", cwd=folder)
    return {
        (row["rule"], row["account"], row["subject"])
        for row in rows(done.stdout)
        if row["verdict"] == "breach"
    }


def test_ahead_with_a_plan_a_figure_and_a_calendar(railway: Path, tmp_path: Path) -> None:
    """The calendar is accepted by a reader that is not ours, and each event keeps its UID."""
    files = [tmp_path / name for name in ("a.png", "a.svg", "a.ics", "b.ics", "day.ics")]
    common = ("ahead", "--for", "60d", "--capacity", "20/week", *AT)
    shown = run(
        *common, "--spread", "--figure", str(files[0]), "--calendar", str(files[2]), cwd=railway, expect=0
    )
    assert "planned" in shown.stdout and "if nothing changes" in shown.stdout
    assert files[0].read_bytes().startswith(b"\x89PNG")
    run(*common, "--figure", str(files[1]), "--calendar", str(files[3]), cwd=railway, expect=0)
    assert b"<svg" in files[1].read_bytes()[:600]
    plan, plain = (icalendar.Calendar.from_ical(path.read_bytes()).walk("VEVENT") for path in files[2:4])
    assert plan and {str(event["UID"]) for event in plan} == {str(event["UID"]) for event in plain}
    assert len({str(event["UID"]) for event in plain}) == len(plain)
    run(*common, "--calendar", str(files[4]), "--by", "day", cwd=railway, expect=0)
    assert 0 < len(icalendar.Calendar.from_ical(files[4].read_bytes()).walk("VEVENT")) < len(plain)


@pytest.mark.parametrize(
    ("words", "message"),
    [
        (("--for", "soon"), '--for "soon" is no length of time'),
        (("--for", "99999d"), "more than ten years"),
        (("--spread",), "--spread needs to know how much"),
        (("--capacity", "0"), '"0" is no capacity'),
        (("--figure", "x.pdf"), "a figure is a PNG or an SVG"),
        (("--calendar", "/no/such/folder/x.ics"), "the file cannot be written"),
    ],
)
def test_what_ahead_cannot_do(railway: Path, words: tuple[str, ...], message: str) -> None:
    """Each with what to do."""
    assert message in run("ahead", *words, *AT, cwd=railway, expect=2).stderr


# rehearse


def test_another_limit_is_rehearsed(railway: Path) -> None:
    """Who is newly in breach is who is under the other limit and not under this one."""
    done = run("rehearse", "--set", "limit.password-age=90d", *AT, "--format", "csv", cwd=railway, expect=0)
    newly = {(row["rule"], row["account"]) for row in rows(done.stdout) if row["change"] == "newly"}
    book = (
        (railway / "rulebook.toml")
        .read_text(encoding="utf-8")
        .replace('password-age       = "180d"', 'password-age = "90d"')
    )
    write(railway, {"other.toml": book})
    other = rows(run("judge", "--rulebook", "other.toml", *AT, "--format", "csv", cwd=railway).stdout)
    then = {(row["rule"], row["account"], row["subject"]) for row in other if row["verdict"] == "breach"}
    expected = {(rule, account) for rule, account, _ in then - _breaches(railway, RAILWAY_AT)}
    assert newly == expected and len(newly) > 50
    same = run("rehearse", "--rulebook", "other.toml", *AT, "--format", "csv", cwd=railway, expect=0)
    assert same.stdout == done.stdout


def test_a_rehearsal_at_later_instants(railway: Path) -> None:
    """The first instant is the one shown in full."""
    done = run("rehearse", "--set", "limit.idle=30d", *AT, "--at", "2027-01-01", cwd=railway, expect=0)
    assert "2026-11-24 10:00" in done.stdout and "2027-01-01 00:00" in done.stdout


def test_a_limit_is_swept(railway: Path, tmp_path: Path) -> None:
    """The looser the limit, the fewer accounts are in breach; the curve is drawn."""
    figure = tmp_path / "curve.svg"
    done = run("rehearse", "--sweep", "limit.password-age=30d..365d/67d", "--figure", str(figure), *AT, "--format", "csv",
               cwd=railway, expect=0)  # fmt: skip
    curve = [int(row["accounts-in-breach"]) for row in rows(done.stdout)]
    assert len(curve) == 6 and curve == sorted(curve, reverse=True) and curve[0] > curve[-1]
    assert b"<svg" in figure.read_bytes()[:600]
    numbers = run("rehearse", "--sweep", "limit.password-length=8..20/4", *AT, cwd=railway, expect=0).stdout
    assert "the book says 12" in numbers


def test_a_limit_is_swept_while_another_is_set(railway: Path) -> None:
    """What is set stays set at every point of the curve."""
    swept = ("rehearse", "--sweep", "limit.lock-for=10min..40min/15min", *AT, "--format", "csv")
    set_too = run(*swept, "--set", "limit.lock-after=3", cwd=railway, expect=0).stdout
    assert set_too == run(*swept, cwd=railway, expect=0).stdout  # no rule uses both
    assert len(rows(set_too)) == 3
    told = run(
        "rehearse", "--sweep", "limit.idle=30d..60d/30d", "--set", "limit.nope=3", *AT, cwd=railway, expect=2
    )
    assert 'the rulebook has no limit "nope"' in told.stderr


def test_rules_that_come_and_go(railway: Path) -> None:
    """A book with one rule of its own instead of all."""
    number = '[tally.t]\ntitle = "T"\ncount = "enabled"\nbetween = [0, 3]\nby = "unit"\nseverity = "low"\n'
    write(railway, {"small.toml": 'title = "We$ird $x^"\n' + rule("enabled") + number})
    done = run("rehearse", "--rulebook", "small.toml", *AT, cwd=railway, expect=0)
    assert "no rule" in done.stdout and "by kind: " in done.stdout and "emergency-accounts" in done.stdout
    run(
        "ahead",
        "--rulebook",
        "small.toml",
        "--figure",
        "x.svg",
        "--calendar",
        "x.ics",
        *AT,
        cwd=railway,
        expect=0,
    )


def test_a_limit_for_some_of_one_of_several_books(railway: Path) -> None:
    """It reaches the book that sets it; a term of another book is refused, not passed over."""
    text = (railway / "estate.toml").read_text("utf-8")
    (railway / "estate.toml").write_text(
        text.replace('"rulebook.toml"', '["base", "rulebook.toml"]'), "utf-8"
    )
    words = ("--format", "csv", *AT)
    mine = run(
        "rehearse", "--set", "limit.rulebook/password-age[admin]=1d", *words, cwd=railway, expect=0
    ).stdout
    assert mine.count("\nnewly,rulebook/password-age,") > 3 and "base/" not in mine
    done = run("rehearse", "--set", "limit.base/password-age[in-cloud]=1d", *words, cwd=railway, expect=2)
    assert '"in-cloud" is no term of the book that sets base/password-age' in done.stderr


def test_a_limit_for_some(railway: Path) -> None:
    """The same rows newly in breach as where the rulebook itself says so; nobody else's come out otherwise."""
    words = ("--format", "csv", *AT)
    some = run("rehearse", "--set", "limit.password-age[admin]=30d", *words, cwd=railway, expect=0).stdout
    everybody = run("rehearse", "--set", "limit.password-age=30d", *words, cwd=railway, expect=0).stdout
    admins = run("who", "admin", "--format", "csv", *AT, cwd=railway, expect=0).stdout.splitlines()[1:]
    names = {line.split(",")[0] for line in admins}
    expected = [line for line in everybody.splitlines()[1:] if line.split(",")[4] in names]
    assert expected and some.splitlines()[1:] == expected
    (railway / "mine.toml").write_text(
        'title = "Mine"\ninclude = ["rulebook.toml"]\n[limits.for.admin]\npassword-age = "30d"\n'
    )
    assert run("rehearse", "--rulebook", "mine.toml", *words, cwd=railway, expect=0).stdout == some
    both = ("--set", "limit.password-age[admin]=9d", "--set", "limit.password-age=365d")
    swept = run(
        "rehearse", *both, "--sweep", "limit.password-age[admin]=30d..60d/30d", *words, cwd=railway
    ).stdout
    assert [line.split(",")[0] for line in swept.splitlines()[1:]] == ["30 d", "60 d"]


@pytest.mark.parametrize(
    ("words", "message"),
    [
        ((), "nothing to rehearse"),
        (("--set", "password-age=90d"), "sets no limit"),
        (("--set", "limit.pasword-age=90d"), 'did you mean "password-age"?'),
        (("--set", "limit.password-age=soon"), '"password-age" is no limit'),
        (("--set", "limit.password-age[admn]=3d"), 'did you mean "admin"?'),
        (("--set", "limit.password-age[]=3d"), "sets no limit"),
        (("--set", "limit.password-age[opens-now]=3d"), "rulebook.toml"),
        (("--set", "limit.good-schemes[admin]=3d"), "the same for everybody"),
        (("--sweep", "limit.password-age[nobody]=1d..9d"), '"nobody" is no term of this book'),
        (("--set", "limit.password-age=3"), '"max-age" is a length of time and "limit.password-age" is a number'),
        (("--sweep", "limit.password-age=365d..30d"), "is no stretch of a limit"),
        (("--sweep", "limit.password-age"), "is no stretch of a limit"),
        (("--sweep", "limit.nope=1d..9d"), 'the rulebook has no limit "nope"'),
        (("--figure", "x.png", "--set", "limit.idle=3d"), "--figure draws the curve of a --sweep"),
        (("--rulebook", "nope.toml"), "there is no such file"),
    ],
)  # fmt: skip
def test_what_cannot_be_rehearsed(railway: Path, words: tuple[str, ...], message: str) -> None:
    """Each with what to do."""
    assert message in run("rehearse", *words, *AT, cwd=railway, expect=2).stderr
