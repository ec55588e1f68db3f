"""Working on rulebooks: checking, showing, trying their cases, starting one, comparing two."""

from __future__ import annotations

import json
import re
from pathlib import Path

import pytest

from keymallet.core.judging.verdicts import Verdict
from keymallet.core.rulebook.model import MENDS
from keymallet.core.rulebook.reading import read_rulebook
from keymallet.core.studies.cases import read_cases, rules_without, try_case
from keymallet.core.studies.coverage import untried
from keymallet.sources.rulebooks import CASES, open_included, shipped, shipped_text
from tests.conftest import RAILWAY_AT
from tests.profiles import first
from tests.support import run, write

AT = ("--at", RAILWAY_AT)
BOOK = """title = "Ours"
edition = "3"
[limits]
age = "90d"
[limits.for.visitor]
age = "30d"
[terms]
visitor = "kind = guest"
[rule.password-age]
title = "Passwords are changed"
who = "enabled and has-password"
must = "age(password-changed) <= limit.age"
severity = "high"
grace = "7d"
mend = "change-password"
[tally.emergency]
title = "Two emergency accounts"
count = "kind = emergency"
between = [2, 2]
severity = "low"
"""
CASE = """at = "2026-11-24T09:00Z"
[[case]]
rule = "password-age"
expect = "breach"
because = "100 d ago"
account = { kind = "person", enabled = true, has-password = true, password-changed = "100d ago" }
"""


# the books that ship


@pytest.mark.parametrize(
    "name", first(2, sorted(shipped(), key=lambda name: name not in ("new-accounts", "cis-controls-8")))
)
def test_a_book_that_ships_is_tried_by_its_cases(name: str) -> None:
    """Every rule breaks, is met, and is open where a fact is missing; every comparison was true and false."""
    book = read_rulebook(shipped_text(name), name, open_included)
    # What it includes is tried by itself.
    book = book.only(lambda demand: demand.origin == name)
    cases = read_cases(shipped_text(name, CASES), name + CASES, book)
    outcomes = [try_case(case, book) for case in cases]
    assert [outcome.wrong for outcome in outcomes if outcome.wrong] == []
    for verdict in (Verdict.BREACH, Verdict.MET, Verdict.UNPROVEN):
        assert [demand.id for demand in rules_without(book, cases, verdict)] == [], verdict
    assert untried(book, outcomes) == []
    assert not book.remarks and all(demand.advice and demand.mend in MENDS for demand in book.demands)
    if name not in ("base", "new-accounts"):
        assert all(demand.cite for demand in book.demands) and book.not_judged


def test_every_kind_of_change_is_used_by_some_book() -> None:
    """A kind that nobody needs is no kind."""
    books = [read_rulebook(shipped_text(name), name, open_included) for name in shipped()]
    used = {demand.mend for book in books for demand in book.demands}
    assert used == set(MENDS)


# show


def test_a_book_and_a_rule_are_shown_as_they_stand(tmp_path: Path) -> None:
    """After its includes, each item with its file; one rule with every name it uses."""
    write(
        tmp_path,
        {
            "ours.toml": BOOK,
            "top.toml": 'title = "Top"\ninclude = ["ours.toml", "base"]\ndrop = ["idle"]\n[limits]\nage = "60d"\n',
        },
    )
    whole = run("rules", "show", "top.toml", cwd=tmp_path, expect=0).stdout
    assert "60 d; 30 d for visitor" in whole and "(ours.toml)" in whole and "(base)" in whole
    assert " idle  Accounts" not in whole
    one = run("rules", "show", "top.toml", "ours/password-age", cwd=tmp_path, expect=0).stdout
    for told in (
        "grace     7 d",
        "60 d; 30 d for visitor  (top.toml)",
        "when the password was last set",
        "have a new password set",
    ):
        assert told in one
    tree = run("rules", "show", "top.toml", "ours/password-age", "--tree", cwd=tmp_path, expect=0).stdout
    assert "all of" in tree and "age(password-changed) <= limit.age" in tree
    tally = run("rules", "show", "ours.toml", "emergency", "--tree", cwd=tmp_path, expect=0).stdout
    assert "required: 2" in tally
    assert (
        'did you mean "password-age"?'
        in run("rules", "show", "ours.toml", "pasword-age", cwd=tmp_path, expect=2).stderr
    )
    assert (
        "--tree shows one rule" in run("rules", "show", "ours.toml", "--tree", cwd=tmp_path, expect=2).stderr
    )


# try


def tried(folder: Path, cases: str, *words: str, expect: int = 0) -> str:
    write(folder, {"ours.toml": BOOK, "ours.cases.toml": cases})
    done = run("rules", "try", "ours.toml", *words, cwd=folder, expect=expect)
    return done.stderr if expect == 2 else done.stdout


def test_cases_that_come_out_as_expected(tmp_path: Path) -> None:
    """What they leave untried is told; --strict makes it count."""
    shown = tried(tmp_path, CASE)
    assert "no breaching case: emergency" in shown
    assert "never seen true   password-age: age(password-changed) <= limit.age" in shown
    assert "1 case of 1 of 2 rules: all as expected" in shown
    tried(tmp_path, CASE, "--strict", expect=1)
    assert "emergency" not in tried(tmp_path, CASE, "--rule", "password-age")


@pytest.mark.parametrize(
    ("change", "message"),
    [
        (('because = "100 d ago"', "subject = 7"), "ours.cases.toml:5:11 case.[1], subject"),
        (('because = "100 d ago"', "subject = 0"), "there is no account 0 in this case; it has 1"),
        (('kind = "person", ', 'kind = "person", usable = true, '), "usable is always worked out: nothing can be given for it"),
        (("account = {", "way-in = { open = true }\naccount = {"), "way-in is always worked out: nothing can be given for it"),
    ],
)  # fmt: skip
def test_cases_that_ask_for_what_there_is_not(tmp_path: Path, change: tuple[str, str], message: str) -> None:
    """A fault of the file, with its place; nothing is ignored in silence."""
    assert message in " ".join(tried(tmp_path, CASE.replace(*change), expect=2).split())


FACTS = """
title = "T"
[rule.one]
title = "One"
each = "key"
must = "no key (expires is unknown)"
severity = "low"
[rule.two]
title = "Two"
each = "elevation"
must = "lasted <= 8h and opened-in-week <= 8h"
severity = "low"
[rule.three]
title = "Three"
each = "key"
must = "length(shared-with) = 0"
severity = "low"
[rule.four]
title = "Four"
must = "length(covered-by) > 0"
severity = "low"
[rule.five]
title = "Five"
each = "person"
must = "no account (locked)"
severity = "low"
"""


def test_what_a_row_does_not_give_is_unknown_and_what_linking_works_out_is(tmp_path: Path) -> None:
    """Not none because another row gives it; spans, shared keys and gates as a reading would have them."""
    spans = 'elevation = [{ outcome = "opened", starts = "2d ago", closed = "CLOSED", role = "root" }]\n'
    cases = (
        '[[case]]\nrule = "one"\nexpect = "unproven"\nkey = [{ key = "a", expires = "in 3d" }, { key = "b" }]\n'
        '[[case]]\nrule = "one"\nexpect = "met"\naccount = { source = "d" }\nkey = { key = "a", expires = "in 3d", of = 1 }\n'
        '[[case]]\nrule = "one"\nexpect = "breach"\nkey = [{ key = "a", expires = "in 3d" }, { key = "b", expires = "none" }]\n'
        '[[case]]\nrule = "two"\nexpect = "met"\n'
        + spans.replace("CLOSED", "41h ago")
        + '[[case]]\nrule = "two"\nexpect = "breach"\n'
        + spans.replace("CLOSED", "39h ago")
        + '[[case]]\nrule = "three"\nexpect = "breach"\naccount = [{ name = "a" }, { name = "b" }]\n'
        'key = [{ digest = "d" }, { digest = "d", of = 2 }]\n'
        '[[case]]\nrule = "three"\nexpect = "unproven"\nkey = { digest = "d", shared-with = "unknown" }\n'
        '[[case]]\nrule = "four"\nexpect = "met"\naccount = { name = "a", kind = "person", enabled = true, groups = [] }\n'
        'gate = { gate = "all", state = "in-force", asks-for = ["any-second"], covers = ["everyone"], leaves-out = [], applications = [] }\n'
        # Of a source that says whose an account is, one that is nobody's is not this person's.
        '[[case]]\nrule = "five"\nexpect = "met"\nperson = { person = "1" }\n'
        'account = [{ locked = false, locked-until = "none", password-lapses = "none" }, { of = 0, locked = true, '
        'locked-until = "none", password-lapses = "none" }]\n'
    )
    write(tmp_path, {"facts.toml": FACTS, "facts.cases.toml": cases})
    shown = run("rules", "try", "facts.toml", cwd=tmp_path).stdout
    assert "9 cases of 5 of 5 rules: all as expected" in shown, shown


@pytest.mark.parametrize(
    ("change", "message"),
    [
        (('expect = "breach"', 'expect = "met"'), "expected met, got breach: password set 2026-08-16, 100 d ago; limit 90 d"),
        (('because = "100 d ago"', 'because = "nope"'), 'the reason does not say "nope"'),
        (('because = "100 d ago"', 'missing = "nope"'), 'what is missing does not name "nope"'),
        (('kind = "person", ', ""), "expected breach, got unproven"),
        (('"100d ago"', '"95d ago"'), "expected breach, got pending"),
    ],
)  # fmt: skip
def test_cases_that_come_out_otherwise(tmp_path: Path, change: tuple[str, str], message: str) -> None:
    """Each with its line, and what it got and why."""
    shown = tried(tmp_path, CASE.replace(*change), expect=1)
    assert "FAILED  ours.cases.toml:2  password-age" in shown and message in " ".join(shown.split())


@pytest.mark.parametrize(
    ("change", "line", "message"),
    [
        (('"password-age"', '"pasword-age"'), 3, 'the rulebook has no rule "pasword-age"; did you mean "password-age"?'),
        (('"breach"', '"breech"'), 4, '"breech" is no verdict; did you mean "breach"?'),
        (('"2026-11-24T09:00Z"', '"soon"'), 1, '"soon" is no instant'),
        (('"100d ago"', '"100 days"'), 6, '"100 days" is no value of password-changed; like "200d ago"'),
        (("enabled = true", 'enabled = "yes"'), 6, '"yes" is no value of enabled; true, false, or none'),
        (("enabled = true", "enabeld = true"), 6, 'there is no fact "enabeld" of an account; did you mean "enabled"?'),
        (('kind = "person"', 'kind = "persn"'), 6, '"persn" is no value of kind'),
        (("account = {", "acount = {"), 6, 'there is no setting "acount" here'),
        (("[[case]]", "[case]"), 2, "this has to be a list"),
        (('"2026-11-24T09:00Z"', '"2026-11-24"\nclock = "Mars/Base"'), 2, 'there is no clock "Mars/Base"'),
        (("account = { ", "key = 3\naccount = { "), 6, "the facts of a key are a table"),
        (("account = { ", "key = [{ of = 9 }]\naccount = { "), 6, "there is no account 9 in this case; 1 for the one account"),
    ],
)  # fmt: skip
def test_cases_with_faults(tmp_path: Path, change: tuple[str, str], line: int, message: str) -> None:
    """File, line, what is wrong and what was meant."""
    told = tried(tmp_path, CASE.replace(*change), expect=2)
    assert f"ours.cases.toml:{line}:" in told and message in " ".join(told.split()), told


def test_a_book_without_cases(tmp_path: Path) -> None:
    """Where they would have to be, and how one is written."""
    write(tmp_path, {"ours.toml": BOOK})
    told = run("rules", "try", "ours.toml", cwd=tmp_path, expect=2).stderr
    assert "ours.cases.toml" in told and "[[case]]" in told


# new


@pytest.mark.parametrize("name", shipped())
def test_a_book_started_on_one_that_ships(tmp_path: Path, name: str) -> None:
    """It stands as written, also with every limit taken out of its comment; it never writes over a file."""
    run("rules", "new", "--from", name, "mine.toml", cwd=tmp_path, expect=0)
    run("rules", "check", "mine.toml", cwd=tmp_path, expect=0)
    started = (tmp_path / "mine.toml").read_text(encoding="utf-8")
    limits = started.split("[limits]")[1].split("# A rule of its own")[0]
    write(tmp_path, {"all.toml": started.replace(limits, limits.replace("\n# ", "\n"))})
    assert "no fault" in run("rules", "check", "all.toml", cwd=tmp_path, expect=0).stdout
    assert "nothing changes" in run("rules", "compare", name, "all.toml", cwd=tmp_path, expect=0).stdout
    assert (
        "there is a file of that name"
        in run("rules", "new", "--from", name, "mine.toml", cwd=tmp_path, expect=2).stderr
    )
    assert run("rules", "new", "--from", name, "--whole", cwd=tmp_path, expect=0).stdout == shipped_text(name)


def test_what_ships_is_listed(tmp_path: Path) -> None:
    """And a name that does not is told from those that do."""
    shown = run("rules", "new", cwd=tmp_path, expect=0).stdout
    assert all(name in shown for name in shipped())
    assert 'did you mean "base"?' in run("rules", "new", "--from", "bass", cwd=tmp_path, expect=2).stderr


def test_an_estate_judged_by_a_book_that_ships(railway: Path) -> None:
    """`rulebook = "base"` in the estate file, or named on the command line."""
    estate = (railway / "estate.toml").read_text(encoding="utf-8")
    write(railway, {"estate.toml": estate.replace('"rulebook.toml"', '"base"')})
    shown = run("judge", "--all", *AT, cwd=railway).stdout
    assert shown.startswith("Accounts and credentials: a sensible start, edition 1")
    assert run("judge", "--rulebook", "pci-dss-4", *AT, cwd=railway).stdout.startswith("PCI DSS 4.0.1")


# compare


def compared(folder: Path, after: str, *words: str) -> str:
    write(folder, {"a.toml": BOOK, "b.toml": after})
    return " ".join(run("rules", "compare", "a.toml", "b.toml", *words, cwd=folder, expect=0).stdout.split())


@pytest.mark.parametrize(
    ("change", "told"),
    [
        (('\nage = "90d"', '\nage = "60d"'), "tightened limit.age 90 d → 60 d"),
        (('\nage = "90d"', '\nage = "120d"'), "loosened limit.age 90 d → 120 d"),
        (('age = "30d"', 'age = "45d"'), "loosened limit.age for visitor 30 d → 45 d"),
        (('severity = "high"', 'severity = "low"'), "loosened password-age severity high → low"),
        (('grace = "7d"\n', ""), "tightened password-age grace 7 d → none"),
        (("[2, 2]", "[1, 3]"), "loosened emergency between 2 and 2 → 1 and 3"),
        (
            ("[rule.password-age]", "[rule.other]"),
            "added other Passwords are changed (high) dropped password-age",
        ),
        (
            ('who = "enabled and has-password"', 'who = "enabled"'),
            "otherwise password-age who: enabled and has-password → enabled",
        ),
    ],
)
def test_what_changes_from_book_to_book(tmp_path: Path, change: tuple[str, str], told: str) -> None:
    """In words; what it means cannot be told without evidence."""
    assert told in compared(tmp_path, BOOK.replace(*change))


def test_what_changes_on_the_evidence(railway: Path) -> None:
    """On a snapshot it is told whether a population is wider, and by how many."""
    wider = compared(railway, BOOK.replace("enabled and has-password", "enabled"), *AT)
    assert (
        "widened password-age who: enabled and has-password → enabled (today" in wider
        and "more of 827 accounts" in wider
    )
    same = compared(railway, BOOK.replace("enabled and has-password", "has-password and enabled"), *AT)
    assert "same password-age who:" in same and "today)" in same
    limit = compared(railway, BOOK.replace('\nage = "90d"', '\nage = "60d"'), *AT)
    assert "tightened password-age by its limits: today" in limit and "more do not meet it, of" in limit
    tighter = compared(railway, BOOK.replace("<= limit.age", "<= limit.age and not initial-password"), *AT)
    assert "tightened password-age must:" in tighter


def test_an_estate_of_several_rulebooks(railway_snapshot: Path) -> None:
    """Judged by side by side, checked together, each tried by its own cases; a choice takes a rule out."""
    estate = (railway_snapshot / "estate.toml").read_text()
    several = 'rulebook = ["pci-dss-4", "nist-800-63b-4"]'
    (railway_snapshot / "several.toml").write_text(
        re.sub(r"^rulebook .*", f'{several}\nidentity = "../estate.toml"', estate, flags=re.M)
    )
    told = run("rules", "check", "--estate", "several.toml", cwd=railway_snapshot, expect=0).stdout
    assert "no setting can meet both of these, for classes" in told
    assert "PCI DSS 4.0.1" in told and "NIST SP 800-63B-4" in told
    tried = run("rules", "try", "--estate", "several.toml", cwd=railway_snapshot, expect=0).stdout
    assert tried.count("all as expected") == 2
    judged = run("judge", *AT, "--estate", "several.toml", "--format", "json", cwd=railway_snapshot)
    ids = {rule["rule"] for rule in json.loads(judged.stdout)["rules"]}
    assert {"setting-letters-and-digits", "setting-no-composition", "setting-lockout"} <= ids
    assert "setting-failures" not in ids, "a hundred failures are less strict than ten"
    words = ("rehearse", *AT, "--estate", "several.toml", "--set")
    told = run(*words, "limit.failures=3", cwd=railway_snapshot, expect=2).stderr
    assert 'did you mean "pci-dss-4/failures"' in told
    run(*words, "limit.pci-dss-4/failures=3", cwd=railway_snapshot, expect=0)
    choice = '[[prefer]]\nrule = "setting-no-composition"\nover = "{}"\nreason = "Length counts."\n'
    whole = (railway_snapshot / "several.toml").read_text()
    (railway_snapshot / "several.toml").write_text(whole + choice.format("setting-letters-and-digits"))
    told = run("rules", "check", "--estate", "several.toml", cwd=railway_snapshot, expect=0).stdout
    assert "no setting can meet" not in told
    (railway_snapshot / "several.toml").write_text(whole + choice.format("setting-letter-and-digits"))
    told = run("rules", "check", "--estate", "several.toml", cwd=railway_snapshot, expect=2).stderr
    assert "several.toml" in told and 'did you mean "setting-letters-and-digits"' in told
    (railway_snapshot / "several.toml").write_text(whole.replace(several, 'rulebook = ["base", "base"]'))
    told = run("judge", "--estate", "several.toml", cwd=railway_snapshot, expect=2).stderr
    assert '"base" is named twice' in told and "several.toml:" in told


@pytest.mark.parametrize(
    ("book", "place", "told"),
    [
        ('title="t"\n[rule.a]\ntitle="x"\nmust="enabled"\nseverity="low"\n[rule.a]\ntitle="y"\n', "b.toml:6:8", "cannot declare rule.a twice"),
        ('title="t"\n[rule.a]\ntitle="x"\neach="elevation"\nmust="approved-by not in account.groups"\nseverity="low"\n',
         "b.toml:5:26", "turn it round: account.groups includes"),
        ('title="t"\n[rule.a]\ntitle="x"\nmust="if enabled then has-password"\nseverity="low"\n', "b.toml:4:10", 'write "not A or B" for "if A then B"'),
        ('title="t"\n[rule.a]\ntitle="x"\nmust="kind <> person"\nseverity="low"\n', "b.toml:4:13", 'write "!="'),
    ],
)  # fmt: skip
def test_faults_are_told_in_the_words_of_the_book(tmp_path: Path, book: str, place: str, told: str) -> None:
    """With what to write instead, and nothing of the language that Keymallet is written in."""
    (tmp_path / "b.toml").write_text(book)
    for words in (("rules", "check", "b.toml"), ("rules", "show", "b.toml")):
        shown = " ".join(run(*words, cwd=tmp_path, expect=2).stderr.split())
        assert place in shown and told in shown
        assert "('" not in shown


def test_a_book_is_shown_without_an_estate(tmp_path: Path) -> None:
    """By its file, or by its name if it ships; a name alone that is neither is a rule of the estate's."""
    (tmp_path / "b.toml").write_text('title="Own"\n[rule.a]\ntitle="x"\nmust="enabled"\nseverity="low"\n')
    assert run("rules", "show", "b.toml", cwd=tmp_path, expect=0).stdout.startswith("Own\n")
    assert run("rules", "show", "b.toml", "a", cwd=tmp_path, expect=0).stdout.startswith("a  x\n")
    assert (
        "SSH keys are strong enough"
        in run("rules", "show", "base", "ssh-key-strength", cwd=tmp_path, expect=0).stdout
    )
    assert "there is no estate file here" in run("rules", "show", "a", cwd=tmp_path, expect=2).stderr
