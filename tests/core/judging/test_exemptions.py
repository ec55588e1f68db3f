"""The register: reading it, whom its patterns cover, what becomes of breaches, and how that ends."""

from __future__ import annotations

from datetime import datetime, timedelta
from typing import Any

import polars as pl
import pytest
from hypothesis import given
from hypothesis import strategies as st

from keymallet.core.base.problems import KeymalletError
from keymallet.core.evaluating.steps import END, ROW
from keymallet.core.explaining.findings import findings
from keymallet.core.judging.exemptions import matching, past_cover
from keymallet.core.judging.judge import Judgement, judge
from keymallet.core.language.lowering import AT as INSTANT_OF
from keymallet.core.linking.filler_reasons import is_filler
from keymallet.core.rulebook.reading import read_rulebook
from keymallet.core.rulebook.register import read_register
from keymallet.core.studies.ahead import coming
from tests.support import AT, CLOCK, days_ago, evidence, rule, verdict_words

ENTRY = '[exemption.e]\nkind = "technical"\naccounts = ["d/a"]\nrules = ["r"]\n'


def judged_with(
    register: str, rules: str, accounts: list[dict[str, Any]], at: datetime = AT, **children: Any
) -> Judgement:
    book = read_rulebook(f'title = "Test"\n{rules}', "rulebook.toml")
    return judge(evidence(accounts, **children), book, at, CLOCK, read_register(register, "x.toml", CLOCK))


def test_a_register_is_read_whole() -> None:
    """Days are midnights of the clock; instants with a zone are what they say."""
    (entry,) = read_register(
        ENTRY
        + 'from = 2026-05-01\nuntil = "2027-01-01T12:00Z"\nreview-every = "90d"\nreviewed = 2026-09-01\n'
        'matched = 3\nwatch = ["a@b.example"]\n[[exemption.e.used]]\nat = 2026-10-02T03:00:00Z\nreason = "Fire"\n',
        "x.toml",
        CLOCK,
    ).exemptions
    assert entry.start == datetime.fromisoformat("2026-04-30T22:00Z")
    assert entry.end == datetime.fromisoformat("2027-01-01T12:00Z")
    assert (entry.review_every, entry.matched) == (timedelta(days=90), 3)
    assert entry.used[0].start == datetime.fromisoformat("2026-10-01T22:00Z"), "its whole day"
    assert entry.used[0].end == datetime.fromisoformat("2026-10-03T03:00Z"), "and a day from then"
    assert [entry.holds(each) for each in (entry.start - timedelta.resolution, entry.start, entry.end)] == [
        False,
        True,
        False,
    ]


@pytest.mark.parametrize(
    ("text", "told", "line"),
    [
        ('[exemption.e]\nkind = "odd"\naccounts = ["a"]\nrules = ["r"]', '"odd" is no kind of exemption', 2),
        ('[exemption.e]\nkind = "technical"\naccounts = []\nrules = ["r"]', "an exemption names accounts", 3),
        ('[exemption.e]\nkind = "technical"\naccounts = ["a"]\nrules = [" "]', "an empty pattern", 4),
        (ENTRY + "until = 2026-01-01\nfrom = 2026-02-01", "it ends before it begins", 5),
        (ENTRY + 'until = "soon"', "this is no date", 5),
        (ENTRY + "until = 0001-01-01", "this is no date", 5),
        (ENTRY + 'review-every = "often"', '"often" is no length of time', 5),
        (ENTRY + "matched = -1", "not negative", 5),
        (ENTRY + "[[exemption.e.used]]\nat = 3\nreason = 'x'", "this is no date", 6),
        (ENTRY + "untill = 2026-01-01", "untill", 5),
        (ENTRY + "[[exemption.e.term]]\ndecided = 2026-01-01\nuntill = 2026-02-01", '"untill"', 7),
        (ENTRY + "[[exemption.e.used]]\nat = 2026-01-01\nreason = 'x'\nunitl = 2026-01-02", '"unitl"', 8),
        ("[exemptions.e]\n", '"exemptions" is nothing a register has', 1),
        ("exemption = 3", "the entries have to be tables", 1),
        ("[exemption.e\n", "this is not TOML", 1),
        ("[exemption]\ne = 4", "", 2),
    ],
)
def test_faults_are_told_with_their_line(text: str, told: str, line: int) -> None:
    """Never a traceback."""
    with pytest.raises(KeymalletError) as raised:
        read_register(text, "x.toml", CLOCK)
    (problem, *_) = raised.value.problems
    assert told in problem.message and problem.place is not None
    assert (problem.place.file, problem.place.line) == ("x.toml", line)


def test_patterns() -> None:
    """With a slash against source and name, without against the login name in any source; nothing else is special."""
    names = pl.Series(["d/alma", "d/adm-alma", "ticketing/tix-1/alma", "e/al.ma", "f/alxma"])

    def hit(*patterns: str) -> list[str]:
        return names.filter(matching(names, patterns)).to_list()

    assert hit("alma") == ["d/alma", "ticketing/tix-1/alma"]
    assert hit("d/alma") == ["d/alma"]
    assert hit("d/*") == ["d/alma", "d/adm-alma"]
    assert hit("*alma") == ["d/alma", "d/adm-alma", "ticketing/tix-1/alma"]
    assert hit("al.ma") == ["e/al.ma"]
    assert hit("al?ma") == ["e/al.ma", "f/alxma"]
    assert hit("ticketing/tix-?/*", "e/al.ma") == ["ticketing/tix-1/alma", "e/al.ma"]
    assert hit("e/al.ma", "alma") == ["d/alma", "ticketing/tix-1/alma", "e/al.ma"]
    assert hit("alm", "[a-z]lma", "ALMA") == []


RULE = rule("enabled", who="kind = person")


def test_a_covered_breach_is_exempt_and_nothing_else() -> None:
    """Met, unproven and out of scope stay what they are; so does a breach of another account or rule."""
    accounts = [
        {"name": name, "kind": kind, "enabled": enabled}
        for name, kind, enabled in (
            ("a", "person", False), ("b", "person", False), ("c", "person", True), ("d", "guest", False),
            ("e", "person", None),
        )
    ]  # fmt: skip
    all_but_b = '[exemption.e]\nkind = "technical"\naccounts = ["a", "c", "d", "e"]\nrules = ["r"]\n'
    found = judged_with(all_but_b, RULE, accounts)
    assert verdict_words(found) == ["exempt", "breach", "met", "out of scope", "unproven"]
    (count,) = found.counts()
    assert (count.exempt, count.breach, count.in_scope) == (1, 1, 4)
    other = judged_with(all_but_b.replace('"r"', '"q*"'), RULE, accounts)
    assert verdict_words(other)[:2] == ["breach", "breach"]


@pytest.mark.parametrize(
    ("dates", "word"),
    [
        ("", "exempt"),
        ("from = 2026-11-24T09:00:00Z", "exempt"),
        ("from = 2026-11-24T09:00:01Z", "breach"),
        ("until = 2026-11-24T09:00:00Z", "breach"),
        ("until = 2026-11-24T09:00:01Z", "exempt"),
    ],
)
def test_only_while_it_holds(dates: str, word: str) -> None:
    """From the first instant on, up to but not including the end."""
    found = judged_with(f"{ENTRY}{dates}\n", RULE, [{"name": "a", "kind": "person", "enabled": False}])
    assert verdict_words(found) == [word]


def test_what_is_pending_is_exempt_too_and_keys_follow_their_account() -> None:
    """A rule with a grace; a rule on each key."""
    late = rule("age(password-changed) <= 10d") + 'grace = "30d"\n'
    found = judged_with(
        ENTRY, late, [{"name": name, "password_changed": days_ago(20)} for name in ("a", "b")]
    )
    assert verdict_words(found) == ["exempt", "pending"]
    keys = rule("state = revoked", each="key")
    rows = [{"of": 0, "key": "1", "state": "active"}, {"of": 1, "key": "2", "state": "active"}]
    found = judged_with(ENTRY, keys, [{"name": "a"}, {"name": "b"}], key=rows)
    assert verdict_words(found) == ["exempt", "breach"]


def test_what_is_in_force_in_a_source() -> None:
    """A setting is covered under its source's name."""
    found = judged_with(
        ENTRY.replace("d/a", "d"), rule("lock-after <= 5", each="setting"), [{"name": "a"}],
        setting=[{"setting": "s", "lock_after": 9}],
    )  # fmt: skip
    assert verdict_words(found) == ["exempt"]


def test_findings_name_the_entry_and_its_end() -> None:
    """With the reason all the same; two entries follow one another without a gap."""
    two = (
        ENTRY
        + "until = 2026-12-01T00:00:00Z\n"
        + ENTRY.replace(".e]", ".f]")
        + "from = 2026-11-30\nuntil = 2027-01-01T00:00:00Z\n"
    )
    found = judged_with(two, RULE, [{"name": "a", "kind": "person", "enabled": False}])
    (row,) = findings(found).iter_rows(named=True)
    assert (row["verdict"], row["exemption"], row["because"]) == ("exempt", ["e"], "is switched off")
    assert row["until"] == datetime.fromisoformat("2027-01-01T00:00Z")
    turning = coming(found, AT + timedelta(days=90))
    assert turning["at"].to_list() == [datetime.fromisoformat("2027-01-01T00:00Z")]


def test_a_breach_to_come_waits_for_the_end_of_its_exemption() -> None:
    """Met today, covered when it would break: it turns to breach only when the cover is gone."""
    aged = rule("age(password-changed) <= 10d")
    told = [{"name": "a", "password_changed": days_ago(5)}]
    for until, expected in (
        ("2026-12-20", "2026-12-19T23:00Z"),
        ("2026-11-25", "2026-11-29T09:00:00.000001Z"),
    ):
        found = judged_with(f"{ENTRY}until = {until}\n", aged, told)
        assert verdict_words(found) == ["met"]
        assert coming(found, AT + timedelta(days=90))["at"].to_list() == [datetime.fromisoformat(expected)]
    assert coming(judged_with(ENTRY, aged, told), AT + timedelta(days=90)).is_empty()


@pytest.mark.parametrize(
    ("broken_for", "until", "expected"),
    [
        # The grace outlasts the entry: it is pending until that is over.
        (10, "2026-11-29T09:00:00Z", AT + timedelta(days=20, microseconds=1)),
        # The entry outlasts the grace.
        (10, "2026-12-19T09:00:00Z", AT + timedelta(days=25)),
        # The grace was over long before the entry began.
        (300, "2026-11-29T09:00:00Z", AT + timedelta(days=5)),
    ],
)
def test_grace_and_exemption_together(broken_for: int, until: str, expected: datetime) -> None:
    """What was exempt counts as a breach once both are over."""
    aged = rule("age(password-changed) <= 10d") + 'grace = "30d"\n'
    register = f"{ENTRY}from = 2026-11-23\nuntil = {until}\n"
    found = judged_with(register, aged, [{"name": "a", "password_changed": days_ago(10 + broken_for)}])
    assert verdict_words(found) == ["exempt"]
    assert coming(found, AT + timedelta(days=90))["at"].to_list() == [expected]


def test_since_when_nobody_can_tell() -> None:
    """A breach on which no date bears has no grace: it counts from the end of its entry on."""
    graced = RULE + 'grace = "30d"\n'
    register = f"{ENTRY}until = 2026-11-29T09:00:00Z\n"
    found = judged_with(register, graced, [{"name": "a", "kind": "person", "enabled": False}])
    assert coming(found, AT + timedelta(days=90))["at"].to_list() == [AT + timedelta(days=5)]


def test_the_register_is_judged_as_accounts_are() -> None:
    """Rows of its own, with what they cover and excuse; approvals of one's own are seen."""
    text = (
        '[exemption.wide]\nkind = "technical"\naccounts = ["d/*", "d/gone"]\nrules = ["r", "no-*"]\n'
        'asked-by = "x"\napproved-by = "A@GVR.example"\nmatched = 1\n'
        '[exemption.over]\nkind = "transition"\naccounts = ["a"]\nrules = ["*"]\nuntil = 2026-01-01\n'
        'asked-by = "x"\napproved-by = "y"\nreason = "as discussed"\n'
    )
    rules = RULE + rule("covers <= matched", each="exemption").replace("rule.r", "rule.broad")
    rules += rule("excuses = 0", "until is known and until(until) <= 0s", each="exemption").replace(
        "rule.r", "rule.over"
    )
    rules += rule("not approves-itself", each="exemption").replace("rule.r", "rule.own")
    rules += rule("not hollow-reason", each="exemption").replace("rule.r", "rule.why")
    rules += rule("length(names-nobody) = 0 and length(names-no-rule) = 0", each="exemption").replace(
        "rule.r", "rule.names"
    )
    accounts = [
        {"name": "a", "kind": "person", "enabled": False, "mail": "a@gvr.example"},
        {"name": "b", "kind": "person", "enabled": True},
    ]
    found = judged_with(text, rules, accounts)
    assert verdict_words(found, "broad") == ["breach", "unproven"]
    assert verdict_words(found, "over") == ["out of scope", "breach"]
    assert verdict_words(found, "own") == ["breach", "met"]
    assert verdict_words(found, "why") == ["breach", "breach"]
    assert verdict_words(found, "names") == ["breach", "met"]
    frame = found.context.frames["exemption"]
    assert frame.select("covers", "excuses").rows() == [(2, 1), (1, 1)]
    assert frame["names-nobody"].to_list() == [["d/gone"], []]
    assert frame["names-no-rule"].to_list() == [["no-*"], []]


def test_what_the_register_says_of_accounts() -> None:
    """Which entries in force cover them, when they were tried, which use is explained, who is told."""
    text = (
        ENTRY
        + 'drilled = 2026-09-01\nwatch = ["w"]\n[[exemption.e.used]]\nat = 2026-10-02T03:00:00Z\nreason = "x"\n'
        + ENTRY.replace(".e]", ".f]")
        + "until = 2026-01-01\ndrilled = 2026-10-01\n"
    )
    asks = "length(exempted-by) = 1 and drilled = 2026-10-01 and use-explained and watched"
    account = {"name": "a", "last_sign_in": datetime.fromisoformat("2026-10-02T21:00Z")}
    found = judged_with(text, rule(asks).replace("rule.r", "rule.q"), [account])
    assert verdict_words(found, "q") == ["met"]
    nobody = "length(exempted-by) = 0 and drilled is unknown and not watched"
    assert verdict_words(judged_with(text, rule(nobody), [{"name": "b"}])) == ["met"]


def test_each_sign_in_has_a_use_or_drill_of_its_own() -> None:
    """A later drill excuses nothing earlier, nor does an earlier one; judged before it was written, neither."""
    text = (
        ENTRY + "drilled = [2026-09-01, 2026-11-20]\n[[exemption.e.used]]\nat = 2026-10-02T03:00:00Z\n"
        'until = 2026-10-02T09:00:00Z\nreason = "Fire"\n'
    )
    at = [
        "2026-09-01T12:00Z",
        "2026-10-02T08:59Z",
        "2026-10-02T09:00Z",
        "2026-11-08T02:00Z",
        "2026-11-20T22:59Z",
    ]
    events = [{"of": 0, "at": datetime.fromisoformat(each), "outcome": "success"} for each in at]
    accounts = [{"name": "a", "last_sign_in": datetime.fromisoformat(at[3])}]
    found = judged_with(
        text, rule("explained", each="sign-in").replace("rule.r", "rule.q"), accounts, sign_in=events
    )
    assert verdict_words(found, "q") == ["met", "met", "breach", "breach", "met"]
    last = judged_with(text, rule("use-explained").replace("rule.r", "rule.q"), accounts)
    assert verdict_words(last, "q") == ["breach"]
    at_last = judged_with(
        text, rule("drilled = 2026-09-01"), accounts, at=datetime.fromisoformat("2026-10-05T00:00Z")
    )
    assert verdict_words(at_last) == ["met"], "the drill that came later is not known then"


def test_only_terms_decided_by_then_count() -> None:
    """Extended after it had ended: a breach in between, exempt now; judged then, as it was judged then."""
    term = '[[exemption.e.term]]\ndecided = 2026-11-20\nuntil = 2027-01-01\napproved-by = "y"\nmatched = 7\n'
    text = (
        ENTRY.replace('["r"]', '["p"]')
        + 'from = 2026-09-01\nuntil = 2026-11-01\napproved-by = "x"\nmatched = 3\n'
        + term
    )
    rules = rule("enabled").replace("rule.r", "rule.p") + rule(
        "matched = 7 and approved-by = 'y' and until = 2027-01-01 and from = 2026-09-01", each="exemption"
    )
    accounts = [{"name": "a", "enabled": False}]
    for day, verdict in {
        "2026-10-05": "exempt",
        "2026-11-10": "breach",
        "2026-11-24": "exempt",
        "2027-01-02": "breach",
    }.items():
        at = datetime.fromisoformat(f"{day}T12:00Z")
        found = judged_with(text, rules, accounts, at)
        assert verdict_words(found, "p") == [verdict], day
        assert verdict_words(found) == ["met" if day > "2026-11-20" else "breach"], "what is known of it then"
    with pytest.raises(KeymalletError, match="decided before the term above"):
        read_register(text + term.replace("11-20", "11-19"), "x.toml", CLOCK)


def test_without_a_register_nothing_is_known_of_it() -> None:
    """Not that nobody is covered: that cannot be told."""
    book = read_rulebook(f'title = "T"\n{rule("length(exempted-by) = 0")}', "r.toml")
    assert verdict_words(judge(evidence([{"name": "a"}]), book, AT, CLOCK)) == ["unproven"]


@pytest.mark.parametrize(
    ("reason", "is_hollow"),
    [
        ("", True), ("   ", True), (None, True), ("n/a", True), ("as discussed", True), ("see ticket 4711", True),
        ("business need, urgent, temporary access", True), ("aaaa aaaa aaaa aaaa aaaa", True),
        ("test test test test test", True), ("needed for work", True),
        ("The switch at Enz has to be replaced tonight.", False),
        ("Störung am Stellwerk, Weiche klemmt seit Mittag", False),
        ("Опоздание поезда из-за снега на перевале", False),
    ],
)  # fmt: skip
def test_hollow_reasons(reason: str | None, is_hollow: bool) -> None:
    """Short, filler, the same letters again; a sentence in any language is none."""
    assert is_filler(pl.Series([reason], dtype=pl.String)).item() is is_hollow


@pytest.mark.parametrize(
    ("reason", "is_hollow"),
    [
        # four words, fifteen letters, six kinds of letter: each one below its bound
        ("abcd efgh ijkl mno", False), ("abcd efgh ijklmno", True),
        ("abcd efgh ijkl mn", True), ("abca bcde fabc defa", False), ("abca bcde eabc deab", True),
    ],
)  # fmt: skip
def test_the_least_a_reason_has_to_say(reason: str, is_hollow: bool) -> None:
    """Exactly at its bounds it is one."""
    assert is_filler(pl.Series([reason])).item() is is_hollow


HOURS = st.integers(0, 40)


@given(
    st.tuples(HOURS, HOURS).filter(lambda pair: pair[0] < pair[1]),
    st.lists(st.tuples(HOURS, HOURS).filter(lambda pair: pair[0] < pair[1]), max_size=5),
)
def test_cover_pushes_a_breach_on_hour_by_hour(
    breach: tuple[int, int], covers: list[tuple[int, int]]
) -> None:
    """The stretch begins at the first hour of it that no entry covers, or is gone."""

    def hour(number: int) -> datetime:
        return AT + timedelta(hours=number)

    begin, end = breach
    open_hours = [
        number for number in range(begin, end) if not any(low <= number < high for low, high in covers)
    ]
    stretch = pl.DataFrame(
        {ROW: pl.Series([0], dtype=pl.UInt32), INSTANT_OF: [hour(begin)], "to": [hour(end)]}
    )
    held = pl.DataFrame(
        {
            ROW: [0] * len(covers),
            "from": [hour(low) for low, _ in covers],
            "until": [hour(high) for _, high in covers],
        },
        schema={ROW: pl.UInt32, "from": stretch[INSTANT_OF].dtype, "until": stretch[INSTANT_OF].dtype},
    )
    found = past_cover(stretch, held)[INSTANT_OF].to_list()
    assert found == ([hour(open_hours[0])] if open_hours else [])
    assert hour(40) < END
