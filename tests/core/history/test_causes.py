"""Every state a finding can get into, and every cause, each by a case whose answer is plain by hand."""

from __future__ import annotations

from datetime import timedelta
from typing import Any

import pytest

from keymallet.core.facts.evidence import Evidence
from tests.core.history.weeks import Weeks, one
from tests.support import AT, days_ago, evidence, rule

NEXT = AT + timedelta(days=7)
ENABLED = rule("not enabled")
OLD = '[limits]\nage = "90d"\n' + rule("age(password-changed) <= limit.age")
FACTS = {
    "account": ["stable-id", "enabled", "password-changed", "groups"],
    "key": ["key", "kind", "state", "issued"],
}


def people(*rows: dict[str, Any], supply: dict[str, Any] | None = None, **children: Any) -> Evidence:
    """Accounts of a source that gives lasting ids, if nothing else is said: ada, ben, cleo by number."""
    named = [
        {"name": name, "stable_id": str(place), **row}
        for place, (name, row) in enumerate(zip(("ada", "ben", "cleo"), rows, strict=False))
    ]
    return evidence(named, supply or {"d": FACTS}, **children)


def test_time_alone_makes_and_ends() -> None:
    """A password gets too old; a key is too young no longer."""
    weeks = Weeks()
    found = people({"password_changed": days_ago(85)})
    weeks.run(found, OLD)
    assert one(weeks.run(found, OLD, at=NEXT)) == ("", "new", "time alone", [])
    ripe = rule("age(password-changed) >= 90d")
    weeks = Weeks()
    weeks.run(found, ripe)
    assert one(weeks.run(found, ripe, at=NEXT)) == ("new", "ended by time", "time alone", [])


def test_a_limit_changed() -> None:
    """From what to what it went is said, also where time passed as well and would not have done it."""
    weeks = Weeks()
    found = people({"password_changed": days_ago(50)})
    weeks.run(found, OLD)
    tight = OLD.replace('"90d"', '"30d"')
    assert one(weeks.run(found, tight, at=NEXT)) == ("", "new", "rulebook", ["limit age: 90 d -> 30 d"])
    assert one(weeks.run(found, OLD, at=NEXT)) == (
        "new",
        "rule changed",
        "rulebook",
        ["limit age: 30 d -> 90 d"],
    )


def test_a_rule_rewritten_dropped_and_added() -> None:
    weeks = Weeks()
    found = people({"enabled": True})
    weeks.run(found, ENABLED)
    other = rule("enabled")
    assert one(weeks.run(found, other)) == (
        "new",
        "rule changed",
        "rulebook",
        ["must of rule r: not enabled -> enabled"],
    )
    assert one(weeks.run(found, ENABLED)) == (
        "",
        "back",
        "rulebook",
        ["must of rule r: enabled -> not enabled"],
    )
    without = rule("enabled").replace("rule.r", "rule.other")
    assert one(weeks.run(found, without)) == ("back", "rule changed", "rulebook", ["rule r: R -> None"])
    assert one(weeks.run(found, ENABLED)) == ("", "back", "rulebook", ["rule r: None -> R"])


def test_a_term() -> None:
    weeks = Weeks()
    term = '[terms]\nstaff = "{}"\n'
    found = people({"enabled": True, "groups": ["crew"]})
    weeks.run(found, rule("not enabled", "staff", term.format("groups includes 'deck'")))
    told = one(weeks.run(found, rule("not enabled", "staff", term.format("groups includes 'crew'"))))
    assert told == ("", "new", "rulebook", ["term staff: groups includes 'deck' -> groups includes 'crew'"])


ENTRY = '[exemption.e]\nkind = "technical"\naccounts = ["d/ada"]\nrules = ["r"]\nreason = "R"\n'


def test_an_exemption_added_and_ended() -> None:
    """Taken out of the register it is the register; over by its own date it is time alone."""
    weeks = Weeks()
    found = people({"enabled": True})
    weeks.run(found, ENABLED)
    assert one(weeks.run(found, ENABLED, ENTRY)) == (
        "new",
        "exempt",
        "register",
        ["register entry e: None -> there"],
    )
    assert weeks.run(found, ENABLED, ENTRY, at=NEXT) == []
    assert one(weeks.run(found, ENABLED, "", at=NEXT)) == (
        "exempt",
        "exemption ended",
        "register",
        ["register entry e: there -> None"],
    )
    dated = ENTRY + "until = 2026-11-27\n"
    weeks = Weeks()
    weeks.run(found, ENABLED, dated)
    assert one(weeks.run(found, ENABLED, dated, at=NEXT)) == ("exempt", "exemption ended", "time alone", [])


def test_a_fact_changed_there_and_back() -> None:
    weeks = Weeks()
    weeks.run(people({"enabled": True}), ENABLED)
    gone = one(weeks.run(people({"enabled": False}), ENABLED, at=NEXT))
    assert gone == ("new", "mended", "facts", ["enabled: yes -> no"])
    back = weeks.run(people({"enabled": True}), ENABLED, at=NEXT + timedelta(days=7))
    assert one(back) == ("", "back", "facts", ["enabled: no -> yes"])
    assert (back[0]["times-back"], back[0]["first-seen"]) == (1, AT)


def test_a_fact_that_a_question_asks() -> None:
    """What a rule asks of other rows is named by the row: a key that came, one that changed."""
    weeks = Weeks()
    asked = rule("no key (state = active)")
    key = {"of": 0, "key": "K1", "kind": "api-key", "state": "inactive"}
    weeks.run(people({}, key=[key]), asked)
    active = people({}, key=[{**key, "state": "active"}])
    told = one(weeks.run(active, asked, at=NEXT))
    assert told == ("", "new", "facts", ["API key K1: state: inactive -> active"])
    none = people({}, key=[{**key, "of": None}])
    assert one(weeks.run(none, asked, at=NEXT)) == ("new", "mended", "facts", ["API key K1: there -> None"])


def test_an_account_renamed_keeps_its_history() -> None:
    weeks = Weeks()
    weeks.run(evidence([{"name": "ada", "stable_id": "7", "enabled": True}], {"d": FACTS}), ENABLED)
    assert (
        weeks.run(evidence([{"name": "ada2", "stable_id": "7", "enabled": True}], {"d": FACTS}), ENABLED)
        == []
    )
    assert weeks.states() == {"d/ada2": "open"}


def test_an_account_made_anew_under_the_same_name_is_another() -> None:
    weeks = Weeks()
    weeks.run(evidence([{"name": "ada", "stable_id": "7", "enabled": True}], {"d": FACTS}), ENABLED)
    changed = weeks.run(evidence([{"name": "ada", "stable_id": "8", "enabled": True}], {"d": FACTS}), ENABLED)
    assert sorted((row["state"], row["cause"]) for row in changed) == [
        ("account gone", "facts"),
        ("new", "facts"),
    ]


@pytest.mark.parametrize("first", [{"stable_id": "7"}, {}])
def test_a_source_that_begins_or_ceases_to_give_lasting_ids(first: dict[str, str]) -> None:
    weeks = Weeks()
    second = {} if first else {"stable_id": "7"}
    for ids in (first, second, first):
        found = evidence([{"name": "ada", "enabled": True, **ids}], {"d": FACTS})
        assert weeks.run(found, ENABLED) == []
    assert weeks.states() == {"d/ada": "open"}


def test_two_accounts_with_one_id_are_known_by_their_names() -> None:
    """A second user id 0: whichever comes first in the file."""
    rows = [{"name": name, "stable_id": "0", "enabled": True} for name in ("root", "toor")]
    weeks = Weeks()
    weeks.run(evidence(rows, {"d": FACTS}), ENABLED)
    assert weeks.run(evidence(rows[::-1], {"d": FACTS}), ENABLED) == []
    assert one(weeks.run(evidence(rows[:1], {"d": FACTS}), ENABLED))[1:3] == ("account gone", "facts")
    assert weeks.states() == {"d/root": "open"}


def test_deleted_not_read_cut_short_and_refused() -> None:
    """Only in a source that was read whole is an account that is missing gone."""
    both, one_left = people({"enabled": True}, {"enabled": True}), people({"enabled": True})

    def after(**options: Any) -> tuple[str, str, str, list[str]]:
        weeks = Weeks()
        weeks.run(both, ENABLED)
        return one(weeks.run(one_left, ENABLED, at=NEXT, **options))

    assert after() == ("new", "account gone", "facts", ["the account: there -> None"])
    assert after(not_read=["d"])[1:3] == ("not seen", "source not read")
    assert after(refused={"d": ["account"]})[1:3] == ("not seen", "source not read")
    assert after(refused={"d": ["key"]})[1:3] == ("account gone", "facts")


def test_what_was_not_seen_is_not_new_again() -> None:
    """It was never mended: it is open, due as before, and only once it is read as gone is it gone."""
    both, one_left = people({"enabled": True}, {"enabled": True}), people({"enabled": True})
    weeks = Weeks()
    weeks.run(both, ENABLED)
    weeks.run(one_left, ENABLED, at=NEXT, not_read=["d"])
    assert weeks.states() == {"d/ada": "open", "d/ben": "not seen"}
    assert weeks.run(one_left, ENABLED, at=NEXT, not_read=["d"]) == [], "still not seen is no change"
    again = weeks.run(both, ENABLED, at=NEXT)
    assert one(again)[:2] == ("not seen", "open") and again[0]["first-seen"] == AT
    weeks.run(one_left, ENABLED, at=NEXT, not_read=["d"])
    assert one(weeks.run(people({"enabled": True}), ENABLED, at=NEXT))[:2] == ("not seen", "account gone")


def test_a_source_not_read_is_never_mended_whatever_it_seems_to_say() -> None:
    """Also of an account that is there: half a source may tell half of what is so."""
    weeks = Weeks()
    weeks.run(people({"enabled": True}), ENABLED)
    told = one(weeks.run(people({"enabled": False}), ENABLED, at=NEXT, not_read=["d"]))
    assert told[1:3] == ("not seen", "source not read")


def test_a_source_taken_out_of_the_estate_is_not_seen() -> None:
    supply = {"d": FACTS, "e": FACTS}
    rows = [{"name": "ada", "enabled": True}, {"name": "eve", "source": "e", "enabled": True}]
    weeks = Weeks()
    weeks.run(evidence(rows, supply), ENABLED)
    told = one(weeks.run(evidence(rows[:1], {"d": FACTS}), ENABLED, at=NEXT))
    assert told[1:3] == ("not seen", "source not read")
    later = evidence(rows[:1], {"d": FACTS})
    assert one(weeks.run(later, ENABLED, at=NEXT, retired=("x", "e*")))[:2] == ("not seen", "account gone")
    assert weeks.states() == {"d/ada": "open"}


def test_a_source_said_to_be_retired_that_is_still_read_is_read() -> None:
    weeks = Weeks()
    weeks.run(people({"enabled": True}), ENABLED)
    told = one(weeks.run(people({"enabled": None}), ENABLED, at=NEXT, retired=("d",)))
    assert told[1:3] == ("not seen", "facts unknown")


def test_facts_unknown_now() -> None:
    weeks = Weeks()
    weeks.run(people({"enabled": True}), ENABLED)
    told = one(weeks.run(people({"enabled": None}), ENABLED, at=NEXT))
    assert told == ("new", "not seen", "facts unknown", ["enabled: yes -> not known"])


def test_a_table_no_longer_exported_mends_nothing() -> None:
    """The keys are not in tonight's export at all: nobody has revoked one."""
    each_key = rule("state != active", each="key")
    key = {"of": 0, "key": "K1", "kind": "api-key", "state": "active"}
    weeks = Weeks()
    weeks.run(people({}, key=[key]), each_key)
    told = one(weeks.run(people({}, supply={"d": {"account": FACTS["account"]}}), each_key, at=NEXT))
    assert told[1:3] == ("not seen", "source not read")


def test_a_key_replaced() -> None:
    """The old one is gone: mended. The new one, if it falls short as well, is another finding."""
    each_key = rule("age(issued) <= 90d", each="key")
    old = {"of": 0, "key": "K1", "kind": "api-key", "issued": days_ago(200)}
    weeks = Weeks()
    weeks.run(people({}, key=[old]), each_key)
    fresh = {**old, "key": "K2", "issued": days_ago(1)}
    assert one(weeks.run(people({}, key=[fresh]), each_key)) == (
        "new",
        "mended",
        "facts",
        ["the key: there -> None"],
    )
    stale = {**old, "key": "K3"}
    changed = weeks.run(people({}, key=[old, stale]), each_key)
    assert sorted((row["state"], row["row-key"].split("=")[-1]) for row in changed) == [
        ("back", "K1"),
        ("new", "K3"),
    ]


def test_keys_that_look_alike_are_told_apart_by_their_place_among_all() -> None:
    """Not among those in breach: else the second would take over the first one's history."""
    each_key = rule("state != active", each="key")
    rows = [
        {"of": 0, "kind": "api-key", "state": "inactive"},
        {"of": 0, "kind": "api-key", "state": "active"},
    ]
    weeks = Weeks()
    weeks.run(people({}, key=rows), each_key)
    changed = weeks.run(people({}, key=[{**rows[0], "state": "active"}, rows[1]]), each_key)
    assert one(changed)[:2] == ("", "new")


def test_a_rule_renamed() -> None:
    """`formerly` keeps the history; without it the old rule has ended, and the new one begins."""
    found = people({"enabled": True})
    renamed = ENABLED.replace("rule.r", "rule.off")
    weeks = Weeks()
    weeks.run(found, ENABLED)
    assert weeks.run(found, renamed + 'formerly = ["r"]\n') == []
    assert weeks.table is not None and weeks.table["rule"].to_list() == ["off"]
    changed = weeks.run(found, renamed.replace("rule.off", "rule.third"))
    assert sorted((row["state"], row["cause"]) for row in changed) == [
        ("new", "rulebook"),
        ("rule changed", "rulebook"),
    ]


def test_where_the_earlier_evidence_is_gone_no_cause_is_made_up() -> None:
    weeks = Weeks()
    weeks.run(people({"enabled": True}), ENABLED)
    told = one(weeks.run(people({"enabled": False}), ENABLED, at=NEXT, forget=True))
    assert told == ("new", "ended", "not known", [])


def test_what_is_pending_has_no_life_yet() -> None:
    """It begins when the grace is over; and a breach that is in its grace again has ended."""
    slow = OLD.replace("severity", 'grace = "10d"\nseverity')
    weeks = Weeks()
    found = people({"password_changed": days_ago(95)})
    weeks.run(found, slow)
    assert weeks.states() == {}
    assert one(weeks.run(found, slow, at=NEXT))[1:3] == ("new", "time alone")
    assert one(weeks.run(found, slow.replace('"10d"', '"30d"'), at=NEXT))[1:3] == ("rule changed", "rulebook")


def test_what_was_not_seen_ends_by_what_is_read_and_by_nothing_else() -> None:
    """Not by the time that passed meanwhile; a rule that is dropped ends it all the same."""
    both, one_left = people({"enabled": True}, {"enabled": True}), people({"enabled": True})
    weeks = Weeks()
    weeks.run(both, ENABLED)
    weeks.run(one_left, ENABLED, at=NEXT, not_read=["d"])
    assert weeks.run(one_left, ENABLED, at=NEXT + timedelta(days=1), not_read=["d"]) == []
    off = people({"enabled": True}, {"enabled": False})
    told = one(weeks.run(off, ENABLED, at=NEXT + timedelta(days=7)))
    assert told[:3] == ("not seen", "mended", "facts")
    weeks.run(both, ENABLED, at=NEXT + timedelta(days=8))
    weeks.run(
        people({"enabled": False}, {"enabled": True}), ENABLED, at=NEXT + timedelta(days=9), not_read=["d"]
    )
    assert weeks.states() == {"d/ada": "not seen", "d/ben": "open"}
    last = weeks.last
    assert last is not None
    assert weeks.run(last.evidence, ENABLED, at=NEXT + timedelta(days=10), not_read=["d"]) == []
    changed = weeks.run(
        last.evidence, ENABLED.replace("rule.r", "rule.x"), at=NEXT + timedelta(days=11), not_read=["d"]
    )
    assert ("not seen", "rule changed", "rulebook") in [
        (row["was"], row["state"], row["cause"]) for row in changed
    ]


def test_an_entry_of_the_register_that_falls_short_is_mended_by_the_register() -> None:
    """Its rows are others after the step of the register, though the evidence is the same."""
    reviewed = rule("reviewed is known", each="exemption")
    weeks = Weeks()
    found = people({"enabled": True})
    weeks.run(found, reviewed, ENTRY)
    told = weeks.run(found, reviewed, ENTRY.replace("exemption.e", "exemption.f"), at=NEXT)
    assert sorted((row["state"], row["cause"]) for row in told) == [
        ("mended", "register"),
        ("new", "register"),
    ]
    told = weeks.run(
        found, reviewed, ENTRY.replace("exemption.e", "exemption.f") + "reviewed = 2026-11-20\n", at=NEXT
    )
    assert one(told)[1:3] == ("mended", "register")


def test_what_lies_side_by_side_is_not_mended_by_a_source_cut_short() -> None:
    """A number, or a shared value, may look right only because half of another source is missing."""
    supply = {"d": {"account": ["privileged"]}, "e": {"account": ["privileged"]}}
    rows = [
        {"name": name, "source": source, "privileged": True} for name, source in (("ada", "d"), ("eve", "e"))
    ]
    few = '[tally.t]\ntitle = "T"\nseverity = "high"\ncount = "privileged"\nbetween = [0, 1]\n'
    weeks = Weeks()
    weeks.run(evidence(rows, supply), few)
    told = one(weeks.run(evidence(rows[:1], supply), few, at=NEXT, not_read=["e"]))
    assert told[1:3] == ("not seen", "source not read")
    assert weeks.run(evidence(rows[:1], supply), few, at=NEXT, not_read=["e"]) == []
    told = one(weeks.run(evidence(rows[:1], supply), few, at=NEXT + timedelta(days=1)))
    assert told[:3] == ("not seen", "mended", "facts")
