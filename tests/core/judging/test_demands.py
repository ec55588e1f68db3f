"""What a rulebook can demand besides: graces, numbers, values that are not shared, limits for some, settings."""

from __future__ import annotations

from datetime import timedelta
from typing import Any

import polars as pl
import pytest

from keymallet.core.base.problems import KeymalletError, fail
from keymallet.core.evaluating.timeline import Timeline
from keymallet.core.explaining.findings import about_account, findings, on_numbers
from keymallet.core.judging.judge import judge
from keymallet.core.judging.verdict_periods import turns_to_breach
from keymallet.core.rulebook.reading import read_rulebook
from tests.support import CLOCK, days_ago, evidence, judged, rule, verdict_words

TICK = timedelta(microseconds=1)


# grace


def test_a_breach_is_pending_within_its_grace() -> None:
    """Late by less than the grace; exactly at its end it counts."""
    rules = rule("age(created) <= 90d").replace("must", 'grace = "14d"\nmust', 1)
    late = [91, 103.9, 104, 104.1]
    judgement = judged(evidence([{"created": days_ago(days)} for days in late]), rules)
    # In breach from the first microsecond past 90 days, so the grace is over a microsecond past 104.
    assert verdict_words(judgement) == ["pending", "pending", "pending", "breach"]
    (found,) = findings(judgement).filter(pl.col("account") == "d/a0").rows(named=True)
    assert found["until"] == days_ago(91) + timedelta(days=104) + TICK
    assert found["because"] and found["change"]


def test_when_what_is_under_grace_turns_to_breach() -> None:
    """When its grace is over, if it is still broken then; what ends before never becomes one."""
    rules = rule("age(created) <= 90d", "until(ends) > 0s").replace("must", 'grace = "14d"\nmust', 1)
    rows = [
        {"created": days_ago(95), "ends": days_ago(-100)},  # pending now
        {"created": days_ago(95), "ends": days_ago(-9)},  # out of scope when its grace is over
        {"created": days_ago(80), "ends": days_ago(-100)},  # not late yet
        {"created": days_ago(80), "ends": days_ago(-15)},
    ]
    judgement = judged(evidence(rows), rules)
    turns = judgement.turning(judgement.rulebook.rules[0])
    expected = [days_ago(95) + timedelta(days=104) + TICK, days_ago(80) + timedelta(days=104) + TICK]
    assert turns.rows() == [(0, expected[0]), (2, expected[1])]


def test_a_grace_that_is_over_after_the_stretch_looked_at_is_not_in_it() -> None:
    """What is pending now turns to breach in four days: within five, not within three."""
    rules = rule("age(created) <= 90d").replace("must", 'grace = "14d"\nmust', 1)
    judgement = judged(evidence([{"created": days_ago(100)}]), rules)
    (only,) = judgement.rulebook.rules
    for days, turning in ((3, []), (5, [0])):
        future = Timeline.from_now(judgement.context, days_ago(-days))
        found = turns_to_breach(judgement.past, future, only, judgement.codes[only.id], None, None)
        assert found["row"].to_list() == turning


def test_without_a_beginning_there_is_no_grace() -> None:
    """Where it cannot be told since when, a breach is one."""
    rules = rule("enabled").replace("must", 'grace = "14d"\nmust', 1)
    assert verdict_words(judged(evidence([{"enabled": False}]), rules)) == ["breach"]


# numbers


def tally(between: str, extra: str = "", count: str = "kind = emergency and enabled") -> str:
    return f"""[tally.t]
title = "T"
severity = "high"
count = "{count}"
between = {between}
{extra}
"""


EMERGENCY = {"kind": "emergency", "enabled": True}


@pytest.mark.parametrize(
    ("accounts", "between", "verdict"),
    [
        ([EMERGENCY] * 2, "[2, 4]", "met"),
        ([EMERGENCY], "[2, 4]", "breach"),
        ([EMERGENCY] * 5, "[2, 4]", "breach"),
        ([EMERGENCY, {"kind": "emergency", "enabled": None}], "[2, 4]", "unproven"),
        ([EMERGENCY] * 5 + [{"kind": "emergency", "enabled": None}], "[2, 4]", "breach"),
        ([{"kind": "person", "enabled": True}], "[0, 0]", "met"),
    ],
)
def test_a_number_has_to_lie_between_two(accounts: list[dict[str, Any]], between: str, verdict: str) -> None:
    """What may or may not count leaves the verdict open only where it matters."""
    judgement = judged(evidence(accounts), tally(between))
    assert verdict_words(judgement, "t") == [verdict]
    assert judgement.counts()[0].in_scope == 1


def test_numbers_by_unit_and_source() -> None:
    """Each unit is counted for itself, also one in which nobody counts."""
    rows = [
        {**EMERGENCY, "unit": "A"},
        {**EMERGENCY, "unit": "A"},
        {"kind": "person", "enabled": True, "unit": "B"},
    ]
    judgement = judged(evidence(rows), tally("[1, 1]", 'by = "unit"'))
    assert on_numbers(judgement)["unit"].to_list() == ["A", "B"]
    told = on_numbers(judgement).select("subject", "because", "change").rows()
    assert told == [
        ("unit A", "2 counted: d/a0, d/a1; required: 1", "have 1 fewer"),
        ("unit B", "none counted; required: 1", "have 1 more"),
    ]
    assert findings(judged(evidence(rows), tally("[2, 9]", 'by = "source"'))).height == 0
    by_source = on_numbers(judged(evidence(rows), tally("[3, 9]", 'by = "source"')))
    assert by_source.select("subject", "unit").rows() == [("source d", None)]
    keys = [{"of": 0, "state": "active", "key": "k1"}, {"of": 2, "state": "active", "key": "k2"}]
    by_unit = judged(
        evidence(rows, key=keys), tally("[0, 0]", 'each = "key"\nby = "unit"', count="state = active")
    )
    assert on_numbers(by_unit)["because"][0] == "1 counted: d/a0 k1; none allowed"


def test_a_number_of_nothing() -> None:
    """Where there is no row at all, there are none."""
    supply = {"d": {"account": ["kind"], "key": ["state"]}}
    judgement = judged(evidence([EMERGENCY], supply), tally("[1, 2]", 'each = "key"', count="state = active"))
    assert verdict_words(judgement, "t") == ["breach"]


# values that are not shared


def distinct(by: str, each: str = "key", who: str = "state = active") -> str:
    return f"""[distinct.r]
title = "R"
each = "{each}"
severity = "high"
who = "{who}"
by = "{by}"
"""


def test_a_value_that_two_accounts_have() -> None:
    """Each of those is in breach; an account's own second one is not, nor one that does not count."""
    keys = [
        {"of": 0, "key": "k0", "digest": "x", "state": "active"},
        {"of": 1, "key": "k1", "digest": "x", "state": "active"},
        {"of": 0, "key": "k2", "digest": "y", "state": "active"},
        {"of": 0, "key": "k3", "digest": "y", "state": "active"},
        {"of": 1, "key": "k4", "digest": "y", "state": "revoked"},
        {"of": 1, "key": "k5", "digest": "z", "state": "active"},
        {"of": 0, "key": "k6", "digest": "z", "state": None},
        {"of": 0, "key": "k7", "digest": None, "state": "active"},
        {"of": None, "key": "k8", "digest": "x", "state": "active"},
    ]
    judgement = judged(evidence([{}, {}], key=keys), distinct("digest"))
    found = dict(zip((key["key"] for key in keys), verdict_words(judgement), strict=True))
    assert {key for key, verdict in found.items() if verdict == "breach"} == {"k0", "k1", "k8"}
    assert {key for key, verdict in found.items() if verdict == "unproven"} == {"k5", "k6"}
    assert found["k4"] == "out of scope" and found["k7"] == "met"
    (first,) = findings(judgement).filter(pl.col("subject").str.ends_with("k0")).rows(named=True)
    assert (
        first["because"].startswith("the same digest as: d/a1") and "x" not in first["because"].split(": ")[1]
    )
    assert first["change"] == "make sure: a digest of its own for each key"


def test_a_value_shared_within_a_source() -> None:
    """The same number on two systems is two things."""
    accounts = [{"stable_id": "1", "source": source} for source in ("d", "d", "e")]
    supply = {source: {"account": ["stable-id"]} for source in ("d", "e")}
    rules = distinct("stable-id", "account", "true")
    assert verdict_words(judged(evidence(accounts, supply), rules)) == ["breach"] * 3
    within = judged(evidence(accounts, supply), rules + 'within = "source"\n')
    assert verdict_words(within) == ["breach", "breach", "met"]
    assert findings(within)["because"][0] == "the same stable-id as: d/a1"


def test_a_shared_value_that_nobody_supplies() -> None:
    """It is not known whether what is not supplied is shared."""
    supply = {"d": {"account": ["kind"], "key": ["state"]}}
    judgement = judged(evidence([{}], supply, key=[{"of": 0, "state": "active"}]), distinct("digest"))
    assert findings(judgement)["missing"].to_list() == [["digest (not supplied by d)"]]


# limits for some


POPULATIONS = """
[limits]
age = "180d"
[limits.for.contractor]
age = "90d"
[limits.for.admin]
age = "30d"
[terms]
contractor = "labels includes 'contractor'"
admin = "privileged"
"""


def test_a_limit_of_their_own() -> None:
    """The first population that fits counts; who may belong has no known limit."""
    rows = [
        {"created": days_ago(100), "labels": [], "privileged": False},
        {"created": days_ago(100), "labels": ["contractor"], "privileged": True},
        {"created": days_ago(60), "labels": [], "privileged": True},
        {"created": days_ago(10), "labels": None, "privileged": False},
    ]
    judgement = judged(evidence(rows), rule("age(created) <= limit.age", extra=POPULATIONS))
    assert verdict_words(judgement) == ["met", "breach", "breach", "unproven"]
    told = findings(judgement)["because"].to_list()[:2]
    assert [each.split("; ")[1] for each in told] == ["limit 90 d", "limit 30 d"]
    turns = judgement.turning(judgement.rulebook.rules[0]).rows()
    assert turns == [(0, days_ago(-80) + TICK)]


def test_a_limit_of_their_own_for_what_is_theirs() -> None:
    """Asked of a key, the population is its account's."""
    world = evidence(
        [{"labels": ["contractor"], "privileged": False}, {"labels": [], "privileged": False}],
        key=[{"of": 0, "issued": days_ago(100)}, {"of": 1, "issued": days_ago(100)}],
    )
    judgement = judged(world, rule("age(issued) <= limit.age", each="key", extra=POPULATIONS))
    assert verdict_words(judgement) == ["breach", "met"]


# settings in force


def test_the_setting_in_force_for_an_account() -> None:
    """What names the account goes before its group, that before its kind, that before everyone."""
    supply = {
        "d": {"account": ["kind", "groups"], "setting": ["applies-to", "max-age"]},
        "e": {"account": ["kind"]},
    }
    settings = [
        {"setting": "all", "applies_to": ["everyone"], "max_age": timedelta(days=90)},
        {"setting": "people", "applies_to": ["person"], "max_age": timedelta(days=60)},
        {"setting": "ops", "applies_to": ["ops", "a9"], "max_age": timedelta(days=30)},
        {"setting": "one", "applies_to": ["a2"], "max_age": timedelta(days=10)},
        {"setting": "also", "applies_to": ["both"], "max_age": timedelta(days=5)},
        {"setting": "too", "applies_to": ["both"], "max_age": timedelta(days=6)},
    ]
    accounts = [
        {"kind": "guest", "groups": []},
        {"kind": "person", "groups": ["ops"]},
        {"kind": "person", "groups": ["ops"]},
        {"kind": "person", "groups": None},
        {"kind": "person", "groups": ["both"]},
        {"kind": "person", "source": "e"},
    ]
    world = evidence(accounts, supply, setting=[{**each, "source": "d"} for each in settings])
    judgement = judged(world, rule("setting.max-age <= 30d"))
    assert verdict_words(judgement) == ["breach", "met", "met", "breach", "unproven", "unproven"]
    assert findings(judgement)["because"][0] == "setting: passwords expire after 90 d; at most 30 d allowed"
    known = judged(world, rule("setting.max-age is known", each="account"))
    assert verdict_words(known)[0] == "met" and verdict_words(known)[5] == "unproven"


# what would end it


@pytest.mark.parametrize(
    ("must", "account", "change"),
    [
        ("age(created) <= 180d", {"created": days_ago(200)}, "make sure: created after 2026-05-28"),
        ("until(ends) > 0s", {"ends": days_ago(3)}, "make sure: ends in the future"),
        ("ends is known and until(ends) <= 56d", {"ends": None}, "set an end date: ends by 2027-01-19"),
        ("ends is known and until(ends) <= 56d", {"ends": days_ago(-99)}, "make sure: ends by 2027-01-19"),
        ("not initial-password", {"initial_password": True}, "make sure that it has changed the password it was handed"),
        ("enabled and kind in [guest, person]", {"enabled": False, "kind": "shared"}, "make sure that it is switched on; make sure: kind guest or person"),
        ("failed-attempts < 3 or enabled", {"failed_attempts": 4, "enabled": False}, "find out who fails to sign in to it, and why"),
        ("not (labels includes 'x')", {"labels": ["x"]}, "make sure: labels not x"),
        ("name like 'adm-*'", {}, "make sure: login name like 'adm-*'"),
        ("password-changed - created >= 2d", {"created": days_ago(3), "password_changed": days_ago(2)}, "make sure: at least 2 d from created to password set"),
    ],
)  # fmt: skip
def test_what_would_end_a_breach(must: str, account: dict[str, Any], change: str) -> None:
    """The fact to change, and the value it would need."""
    assert findings(judged(evidence([account]), rule(must)))["change"].to_list() == [change]


def test_what_would_end_a_breach_of_rows() -> None:
    """Which row is missing, which has to go, how many there may be."""
    world = evidence([{"enabled": True}], factor=[{"of": 0, "kind": "sms", "state": "active"}] * 3)
    changes = {
        "some factor (kind = passkey)": "add a passkey",
        "no factor (kind = sms)": "end or remove text message, text message, text message",
        "count factor (kind = sms) <= 1": "make sure that it has at most 1 text message",
    }
    for must, change in changes.items():
        assert findings(judged(world, rule(must)))["change"].to_list() == [change]


# books on books


BASE = """title = "Base"
[limits]
age = "90d"
[terms]
staff = "kind = person"
[rule.old]
title = "Old"
who = "staff"
must = "age(created) <= limit.age"
severity = "high"
[rule.gone]
title = "Gone"
must = "enabled"
severity = "low"
"""


def opened(files: dict[str, str]) -> Any:
    def open_included(wanted: str, by: str) -> tuple[str, str]:
        if wanted not in files:
            raise fail(f'there is no "{wanted}"')
        return files[wanted], wanted

    return open_included


def test_a_book_built_on_another() -> None:
    """Later books change limits, replace rules by their id, drop some; each item keeps its file."""
    own = """title = "Own"
include = ["base.toml"]
drop = ["gone"]
[limits]
age = "30d"
[rule.new]
title = "New"
must = "not locked"
severity = "medium"
mend = "unlock"
"""
    book = read_rulebook(own, "own.toml", opened({"base.toml": BASE}))
    assert [(each.id, each.origin) for each in book.rules] == [("old", "base.toml"), ("new", "own.toml")]
    assert book.limits["age"].value == timedelta(days=30)  # type: ignore[union-attr]
    assert (book.title, book.limit_origins["age"], book.terms["staff"].file) == (
        "Own",
        "own.toml",
        "base.toml",
    )
    assert book.files == ("own.toml", "base.toml")


def faults(text: str, files: dict[str, str] | None = None) -> list[tuple[str, int, str]]:
    with pytest.raises(KeymalletError) as raised:
        read_rulebook(text, "own.toml", opened(files or {"base.toml": BASE}))
    return [(p.place.file, p.place.line, p.message) for p in raised.value.problems if p.place]


def test_faults_of_books_on_books_stand_in_their_own_file() -> None:
    """A limit that is changed to something else is a fault where it is used."""
    found = faults(
        "title = 'o'\ninclude = ['base.toml']\n[limits]\nage = 3\n[rule.x]\ntitle='x'\nmust='nabled'\nseverity='low'"
    )
    assert [(file, line) for file, line, _ in found] == [("base.toml", 9), ("own.toml", 7)]


@pytest.mark.parametrize(
    ("text", "line", "message"),
    [
        ("include = ['nope.toml']", 2, 'there is no "nope.toml"'),
        ("include = ['own.toml']", 2, "the file includes itself"),
        ("include = ['base.toml']\ndrop = ['goen']", 3, 'no included book has a rule "goen"'),
        ("include = ['base.toml']\n[tally.old]\ntitle='t'\ncount='enabled'\nbetween=[3,1]\nseverity='low'", 6, "between which two"),
        (f"include = ['base.toml']\n[tally.old]\ntitle='t'\ncount='enabled'\nbetween=[3,{10**12 + 1}]\nseverity='low'", 6, "between which two"),
        ("include = ['base.toml']\n[limits]\nodd = [true]", 4, '"odd" is no limit'),
        ("include = ['base.toml']\n[limits]\nodd = ['a', true]", 4, '"odd" is no limit'),
        ("include = ['base.toml']\n[limits]\nodd = []", 4, '"odd" is no limit'),
        ("include = ['base.toml']\n[limits]\nodd = ['a', 1]", 4, '"odd" is no limit'),
        ("[tally.t]\ntitle='t'\ncount='enabled'\nbetween=[1,2]\nseverity='low'\nby='unti'", 7, 'numbers are not counted by "unti"'),
        ("[rule.r]\ntitle='r'\nmust='enabled'\nseverity='low'\ngrace='soon'", 6, '"soon" is no length of time'),
        ("[rule.r]\ntitle='r'\nmust='enabled'\nseverity='low'\nmend='renew'", 6, '"renew" is no kind of change'),
        ("[distinct.r]\ntitle='r'\nby='labels'\nseverity='low'", 4, '"labels" is no single value'),
        ("[distinct.r]\ntitle='r'\nby='name'\nwithin='unit'\nseverity='low'", 5, "a value is shared within a source"),
        ("[limits.for.x]\nage='3d'\n[limits.for.y]\nage='3d'\n[rule.r]\ntitle='r'\nmust='enabled'\nseverity='low'", 4, '"y" is no term of this book'),
        ("[limits.for.x]\nage='3d'\n[rule.r]\ntitle='r'\nmust='enabled'\nseverity='low'", 2, '"x" is no term of this book'),
        ("[terms]\nx='enabled'\n[limits.for.x]\nage='3d'\n[rule.r]\ntitle='r'\nmust='enabled'\nseverity='low'", 5, 'no limit "age" is set'),
        ("[limits]\nage=3\n[terms]\nx='enabled'\n[limits.for.x]\nage='3d'\n[rule.r]\ntitle='r'\nmust='enabled'\nseverity='low'", 7, '"age" is a number for everybody else'),
        ("[rule.r]\ntitle='r'\nmust='latest key.kind is known'\nseverity='low'", 4, '"kind" is no instant of a key'),
        ("[rule.r]\ntitle='r'\nmust='some key.issued'\nseverity='low'", 4, '"some" asks about rows'),
        ("[rule.r]\ntitle='r'\nmust='setting.max-ag <= 3d'\nseverity='low'", 4, 'a setting has no column "max-ag"'),
        ("[rule.r]\neach='gate'\ntitle='r'\nmust='setting.max-age <= 3d'\nseverity='low'", 5, "settings are in force for accounts"),
    ],
)  # fmt: skip
def test_faults_in_what_a_book_can_demand(text: str, line: int, message: str) -> None:
    """Each at its own line."""
    found = faults(f"title = 'o'\n{text}", {"base.toml": BASE, "own.toml": f"title = 'o'\n{text}"})
    assert any(at == line and said.startswith(message) for _, at, said in found), found


def test_an_account_shown_alone_is_judged_among_all() -> None:
    """Whether its key is another's as well cannot be told from its own facts."""
    world = evidence([{}, {}], key=[{"of": place, "state": "active", "digest": "x"} for place in (0, 1)])
    whole = judged(world, distinct("digest"))
    assert verdict_words(judged(world.only([1]), distinct("digest"))) == ["met"]
    around = judge(world.around(1), whole.rulebook.only(lambda rule: False), whole.at, CLOCK)
    told = about_account(1, around, whole)
    assert told.select("account", "verdict").rows() == [("d/a1", "breach")]


def test_an_account_shown_alone_is_under_the_same_settings() -> None:
    """What is in force for it stands in rows that are no account's."""
    rows = [{"has_password": True, "password_changed": days_ago(90)}, {}]
    world = evidence(rows, setting=[{"source": "d", "setting": "s", "max_age": timedelta(days=60)}])
    aged = rule("age(password-changed) <= setting.max-age", "has-password")
    assert verdict_words(judged(world, aged))[0] == "breach"
    assert verdict_words(judged(world.around(0), aged)) == ["breach"]
    assert verdict_words(judged(world.only([0]), aged)) == ["breach"]


def test_a_breach_that_ends_as_its_grace_does_never_counts() -> None:
    """It is over at the very instant at which it would be due; a microsecond more, and it is due."""
    for length, due in (("104d", []), ("105d", [0])):
        lasting = rule(f"age(created) <= 90d or age(created) > {length}")
        graced = lasting.replace("must", 'grace = "14d"\nmust', 1)
        judgement = judged(evidence([{"created": days_ago(80)}]), graced)
        assert judgement.turning(judgement.rulebook.rules[0])["row"].to_list() == due
