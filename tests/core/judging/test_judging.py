"""Verdicts: three-valued logic, what is not supplied, and boundaries of time."""

from __future__ import annotations

from datetime import timedelta

import pytest

from keymallet.core.base.problems import KeymalletError
from keymallet.core.explaining.findings import EVERY_VERDICT, findings, on_systems
from keymallet.core.explaining.worst import worst_accounts
from tests.support import AT, days_ago, evidence, judged, rule, verdict_words

MOMENT = timedelta(microseconds=1)


@pytest.mark.parametrize(
    ("who", "must", "verdict"),
    [
        (False, None, "out of scope"),
        (False, False, "out of scope"),
        (True, True, "met"),
        (True, False, "breach"),
        (None, True, "met"),
        (None, False, "unproven"),
        (True, None, "unproven"),
        (None, None, "unproven"),
    ],
)
def test_the_table_of_verdicts(who: bool | None, must: bool | None, verdict: str) -> None:
    """An unknown never passes and never breaks a rule; only what cannot be a breach is met all the same."""
    found = evidence([{"enabled": who, "interactive": must}])
    assert verdict_words(judged(found, rule("interactive", "enabled"))) == [verdict]


def test_exactly_at_the_limit_is_in_time() -> None:
    """`age(x) <= 90d` is still true at exactly 90 days, and false a microsecond later."""
    changed = [days_ago(90), days_ago(90) - MOMENT, days_ago(90) + MOMENT]
    found = evidence([{"password_changed": instant} for instant in changed])
    assert verdict_words(judged(found, rule("age(password-changed) <= 90d"))) == ["met", "breach", "met"]


def test_what_no_source_supplies_is_unproven() -> None:
    """Not supplied is unknown; supplied and empty is none. Only the second can be a breach."""
    supply = {"d": {"account": ["ends"], "factor": ["kind"]}, "e": {"account": []}}
    found = evidence([{"source": "d"}, {"source": "e"}], supply, factor=[])
    assert verdict_words(judged(found, rule("ends is known"))) == ["breach", "unproven"]
    assert verdict_words(judged(found, rule("some factor"))) == ["breach", "unproven"]
    assert verdict_words(judged(found, rule("no factor"))) == ["met", "unproven"]
    assert verdict_words(judged(found, rule("count factor = 0"))) == ["met", "unproven"]


def test_a_cell_that_could_not_be_read_is_not_none() -> None:
    """It stands in the source, so that there is no end cannot be said."""
    found = evidence([{"ends": None, "unread": ["ends"]}, {"ends": None}])
    assert verdict_words(judged(found, rule("ends is unknown"))) == ["unproven", "met"]


def test_a_fact_after_the_instant_judged_at_is_not_known_then() -> None:
    """Judged as of last year, a password set this year has not been set."""
    found = evidence([{"password_changed": days_ago(10)}])
    assert verdict_words(judged(found, rule("age(password-changed) <= 90d"), days_ago(30))) == ["unproven"]
    assert verdict_words(judged(found, rule("age(password-changed) <= 90d"))) == ["met"]
    assert verdict_words(judged(found, rule("password-changed is unknown"), days_ago(30))) == ["unproven"]


def test_a_lock_that_has_run_out_is_no_lock() -> None:
    """`locked` is asked at the instant judged; without an end it lasts."""
    locks = [AT, AT + MOMENT, None]
    found = evidence([{"locked": True, "locked_until": until} for until in locks])
    assert verdict_words(judged(found, rule("not locked"))) == ["met", "breach", "breach"]


def test_ends_is_the_first_instant_of_no_longer() -> None:
    """An account is usable up to, not at, its end."""
    base = {"enabled": True, "locked": False, "has_password": True, "starts": None}
    found = evidence([base | {"ends": AT}, base | {"ends": AT + MOMENT}])
    assert verdict_words(judged(found, rule("usable"))) == ["breach", "met"]


def test_plain_dates_are_in_the_estates_clock() -> None:
    """2026-11-24 begins in Zurich an hour before it begins in UTC."""
    found = evidence(
        [{"ends": AT.replace(day=23, hour=23, minute=0)}, {"ends": AT.replace(day=23, hour=22, minute=59)}]
    )
    assert verdict_words(judged(found, rule("ends >= 2026-11-24"))) == ["met", "breach"]


def test_each_row_gets_a_verdict_and_an_orphan_is_unproven() -> None:
    """A key whose account is not in the evidence cannot be judged by what its account is."""
    keys = [
        {"of": 0, "kind": "api-key"},
        {"of": 1, "kind": "api-key"},
        {"of": None, "kind": "api-key", "account": "d/gone"},
    ]
    judgement = judged(
        evidence([{"enabled": True}, {"enabled": False}], key=keys), rule("account.enabled", each="key")
    )
    assert verdict_words(judgement) == ["met", "breach", "unproven"]
    found = findings(judgement)
    assert found["account"].to_list() == ["d/a1", "d/gone"]
    assert found["missing"].to_list() == [[], ["the account itself (not in the evidence)"]]


def test_a_question_may_ask_back_about_its_account() -> None:
    """Stage by stage: rows, then their account, then rows of another table."""
    found = evidence(
        [{"kind": "person"}, {"kind": "service"}],
        key=[{"of": 0, "state": "active"}, {"of": 1, "state": "active"}],
        factor=[{"of": 0, "kind": "passkey"}],
    )
    asked = rule(
        "every key (account.kind = person and account.strong)",
        extra="[terms]\nstrong = 'some factor (phishing-resistant)'",
    )
    assert verdict_words(judged(found, asked)) == ["met", "breach"]


def test_no_account_at_all() -> None:
    """An empty directory is judged, with nobody in scope."""
    found = evidence([], {"d": {"account": ["enabled"]}})
    judgement = judged(found, rule("enabled and some key"))
    assert [count.in_scope for count in judgement.counts()] == [0]
    assert findings(judgement).height == 0
    assert worst_accounts(judgement, 5)[1] == 0


BREACHES = [
    (
        {"password_changed": days_ago(267.5)},
        "age(password-changed) <= 180d",
        "password set 2026-03-01, 267 d ago; at most 180 d allowed",
    ),
    (
        {"ends": AT + timedelta(days=3)},
        "until(ends) >= 1w",
        "ends 2026-11-27, in 3 d; at least 7 d required",
    ),
    ({"initial_password": True}, "not initial-password", "still has the password it was handed"),
    (
        {"password_scheme": "md5"},
        "password-scheme in [yescrypt, bcrypt]",
        "password stored as md5; allowed: yescrypt or bcrypt",
    ),
    ({"kind": "guest"}, "kind not in [guest]", "kind guest; not allowed"),
    ({"failed_attempts": 9}, "failed-attempts < 3", "9 failed sign-ins; fewer than 3 allowed"),
    ({"failed_attempts": 9}, "not (failed-attempts >= 3)", "9 failed sign-ins; fewer than 3 allowed"),
    ({"failed_attempts": 9}, "failed-attempts in [1, 2.5]", "9 failed sign-ins; allowed: 1 or 2.5"),
    ({"failed_attempts": 9}, "3 > failed-attempts", "9 failed sign-ins; fewer than 3 allowed"),
    ({"groups": ["a", "b"]}, "not groups includes 'b'", "in groups a, b; not allowed: b"),
    ({"groups": []}, "groups includes all of ['x', 'y']", "in no group; required: x and y"),
    ({"name": "bob"}, "name like 'adm-*'", "login name bob; has to match 'adm-*'"),
    ({"ends": None}, "ends is known", "no end date on record"),
    ({"ends": AT}, "ends is unknown", "ended 2026-11-24"),
    (
        {"created": days_ago(2), "ends": AT},
        "ends - created <= 8h",
        "2 d from created to ends; at most 8 h allowed",
    ),
    ({"unit": "Track", "title": "Track"}, "unit != title", "unit Track; must differ from: job title Track"),
    (
        {"enabled": False, "locked": True, "locked_until": None},
        "enabled and not locked",
        "is switched off; also is locked",
    ),
    (
        {"enabled": False, "interactive": True},
        "enabled or not interactive",
        "is switched off; and can open a session",
    ),
    ({"enabled": False, "interactive": True}, "interactive and enabled", "is switched off"),
]


@pytest.mark.parametrize(("account", "must", "because"), BREACHES, ids=[must for _, must, _ in BREACHES])
def test_because_gives_the_accounts_own_figures(account: dict[str, object], must: str, because: str) -> None:
    """Of `and` only what failed, of `or` all of it; figures with units, dates in the estate's clock."""
    assert findings(judged(evidence([account]), rule(must)))["because"].to_list() == [because]


def test_because_names_the_limit_by_its_value() -> None:
    """And the terms a rule uses are explained by what is in them."""
    asked = rule(
        "fresh", extra='[limits]\nage = "36h"\n[terms]\nfresh = "age(password-changed) <= limit.age"'
    )
    found = findings(judged(evidence([{"password_changed": days_ago(3)}]), asked))
    assert found["because"].to_list() == ["password set 2026-11-21, 3 d ago; limit 36 h"]


FACTORS = [{"of": 0, "kind": kind, "state": "active"} for kind in ("sms", "otp", "push", "voice", "email")]


@pytest.mark.parametrize(
    ("must", "because"),
    [
        (
            "some factor (phishing-resistant)",
            "no phishing-resistant factor; registered: text message, code app, push approval and 2 more",
        ),
        ("some key", "no key on record"),
        (
            "no factor (kind in [sms, voice])",
            "factor of kind text message or voice call: text message, voice call",
        ),
        ("every factor (kind != otp)", "code app; required of every factor: other than code app"),
        (
            "count factor (state = active) <= 2",
            "5 active factors: text message, code app, push approval and 2 more; at most 2 allowed",
        ),
        ("count factor (kind = sms) = 0", "1 text message; none allowed"),
        ("not some factor (kind = push)", "push approval"),
        (
            "not every factor (state = active)",
            "every factor is active: text message, code app, push approval and 2 more",
        ),
    ],
)
def test_because_names_the_rows_that_matter(must: str, because: str) -> None:
    """At most three of them, and how many more there are."""
    found = evidence(
        [{}], {"d": {"account": [], "factor": ["kind", "state"], "key": ["kind"]}}, factor=FACTORS
    )
    assert findings(judged(found, rule(must)))["because"].to_list() == [because]


def test_unproven_says_which_facts_are_missing_and_how() -> None:
    """Not supplied, not recorded and unreadable are three things."""
    supply = {"d": {"account": ["enabled", "ends", "created"]}}
    found = evidence([{"unread": ["ends"]}], supply)
    told = findings(
        judged(found, rule("interactive and until(ends) > 1d and age(created) < 1d and some key", "enabled"))
    )
    assert told["missing"].to_list() == [
        [
            "enabled (not recorded in d)",
            "interactive (not supplied by d)",
            "ends (unreadable)",
            "created (not recorded in d)",
            "key (not supplied by d)",
        ]
    ]


def test_the_worst_account_comes_first() -> None:
    """One more critical breach outweighs any number of lesser ones; among equals the first account leads."""
    rules = "".join(
        f"[rule.r{number}]\ntitle = 't'\nseverity = '{severity}'\nmust = \"{must}\"\n"
        for number, (severity, must) in enumerate(
            [("critical", "enabled"), ("low", "interactive"), ("low", "locked")]
        )
    )
    accounts = [
        {"enabled": on, "interactive": shell, "locked": shell}
        for on, shell in [(True, False), (False, True), (True, False), (True, True)]
    ]
    rows, breached = worst_accounts(judged(evidence(accounts), rules), 10)
    assert (rows.to_list(), breached) == ([1, 0, 2], 3)


def test_one_account_alone_gets_the_verdicts_it_gets_among_all() -> None:
    """What is shown of one account is what was judged."""
    accounts = [{"enabled": number % 2 == 0} for number in range(6)]
    keys = [{"of": number, "kind": "api-key", "state": "active"} for number in (0, 3, 3, 5)]
    found = evidence(accounts, key=keys)
    rules = rule("enabled and no key (state = active)")
    whole = findings(judged(found, rules), EVERY_VERDICT)
    for row in range(6):
        alone = findings(judged(found.only([row]), rules), EVERY_VERDICT)
        assert alone.rows() == whole.filter(whole["account"] == f"d/a{row}").rows()


def test_dates_of_rules_are_told_in_the_clock_of_the_estate() -> None:
    """Half past eleven at night in Greenwich is the next day in the estate's clock."""
    found = findings(judged(evidence([{"created": days_ago(3)}]), rule("created > 2026-11-29T23:30Z")))
    assert found["because"][0].endswith("has to be after 2026-11-30")
    assert found["change"][0] == "make sure: created after 2026-11-30"


def test_what_a_source_has_in_force_is_judged_for_itself() -> None:
    """A verdict for each setting names its source, is no account's, and finds its reasons."""
    supply = {
        "d": {"account": ["enabled"], "setting": ["min-length", "classes"]},
        "e": {"account": ["enabled"]},
    }
    settings = [
        {"setting": "s", "source": "d", "min_length": 8},
        {"setting": "t", "source": "e", "min_length": None},
    ]
    found = evidence([{"enabled": True}], supply, setting=settings)
    judgement = judged(found, rule("min-length >= 12", extra="", each="setting"))
    assert verdict_words(judgement) == ["breach", "unproven"]
    told = findings(judgement).select("account", "subject", "because", "missing").rows()
    assert told == [
        ("d", "s", "shortest password allowed: 8 characters; at least 12 required", []),
        ("e", "t", None, ["min-length (not supplied by e)"]),
    ]
    assert worst_accounts(judgement, 5)[1] == 0
    assert on_systems(judgement)["subject"].to_list() == ["s"]
    assert findings(judged(found, rule("classes is known", each="setting")))["verdict"].to_list() == [
        "breach",
        "unproven",
    ]


@pytest.mark.parametrize(
    ("must", "fault"),
    [
        ("account.enabled", "a setting belongs to no account"),
        ("some key", "a setting belongs to no account: there is no key to ask about"),
        ("min-lenght > 3", 'a setting has no column "min-lenght"'),
    ],
)
def test_a_setting_has_no_account(must: str, fault: str) -> None:
    """What can be asked of an account cannot be asked of it."""
    with pytest.raises(KeymalletError) as raised:
        judged(evidence([{}]), rule(must, each="setting"))
    assert raised.value.problems[0].message == fault


def test_a_count_is_decided_as_soon_as_its_bounds_decide_it() -> None:
    """Three sure rows are more than one, whatever a fourth is; one sure and one in doubt may be one or two."""
    sure, doubtful = {"of": 0, "privileged": True}, {"of": 0, "privileged": None}
    found = evidence([{}], grant=[sure, sure, sure, doubtful])
    for must, verdict in {
        "count grant (privileged) <= 1": "breach",
        "1 >= count grant (privileged)": "breach",
        "count grant (privileged) >= 3": "met",
        "count grant (privileged) <= 4": "met",
        "count grant (privileged) > 3": "unproven",
        "count grant (privileged) = 3": "unproven",
        "count grant (privileged) = 5": "breach",
        "count grant (privileged) != 5": "met",
        "10 - count grant (privileged) >= 7": "unproven",
        "10 - count grant (privileged) >= 6": "met",
        "greatest(count grant (privileged), 1) <= 2": "breach",
        "count grant (privileged) in [0, 1, 2]": "breach",
        "count grant (privileged) not in [0, 1, 5]": "met",
        "count grant (privileged) in [3, 4, 9]": "met",
        "count grant (privileged) in [3, 5]": "unproven",
        "count grant (privileged) in [2.5]": "breach",
        "count grant (mode is known) in [0]": "unproven",
    }.items():
        assert verdict_words(judged(found, rule(must))) == [verdict], must
    (told,) = findings(judged(found, rule("count grant (privileged) <= 1")))["because"]
    assert told.startswith("3 to 4 privileged rights")
    of_key = evidence([{}], grant=[sure, sure, doubtful], key=[{"of": 0, "key": "k"}])
    assert verdict_words(judged(of_key, rule("count grant (privileged) <= 1", each="key"))) == ["breach"]


def test_the_latest_of_several_leaves_out_what_is_none() -> None:
    """None is no rival; unknown is. `either` takes whichever there is."""
    accounts = [
        {"created": days_ago(9), "starts": None},
        {"created": days_ago(9), "starts": None, "unread": ["starts"]},
        {"created": None, "starts": None},
        {"created": days_ago(9), "starts": days_ago(3)},
    ]
    found = evidence(accounts)
    assert verdict_words(judged(found, rule("age(greatest(created, starts)) <= 5d"))) == [
        "breach", "unproven", "unproven", "met",
    ]  # fmt: skip
    assert verdict_words(judged(found, rule("age(either(starts, created)) <= 5d"))) == [
        "breach", "breach", "unproven", "met",
    ]  # fmt: skip
    with pytest.raises(KeymalletError, match="either takes"):
        judged(found, rule("either(created, kind) is known"))
