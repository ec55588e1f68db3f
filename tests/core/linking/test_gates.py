"""Gates: whom they ask, leave out and watch; against a slow reference, and the properties that hold."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import polars as pl
from hypothesis import given
from hypothesis import strategies as st

from keymallet.core.linking.gates import ON_ACCOUNTS, Gate, mark_gates, reach
from tests.support import bare_evidence, linked, passed

_SCHEMA = {"name": pl.String, "kind": pl.String, "groups": pl.List(pl.String), "enabled": pl.Boolean}
PEOPLE = pl.DataFrame(
    [
        ("alma", "person", ["staff", "admins"], True),
        ("bruno", "person", ["staff"], True),
        ("cilla", "guest", [], True),
        ("safe-1", "emergency", ["staff"], True),
        ("darius", "person", None, True),
        ("emil", "person", ["staff"], False),
    ],
    schema=_SCHEMA,
    orient="row",
)


def test_a_worked_example() -> None:
    """Staff but for the safe; guests only watched; of whom no groups are known nothing can be told."""
    found = reach(
        PEOPLE,
        [
            Gate("staff", covers=("staff",), leaves_out=("emergency",)),
            Gate("guests", "on-trial", covers=("guest",)),
            Gate("depot", covers=("depot-desk", "alma"), asks_for=("password",)),
            Gate("old", "off", covers=("everyone",)),
        ],
    )
    lists = found.on_accounts.drop("phishing-resistant-required", "accepted-factors")
    told = dict(zip(PEOPLE["name"], lists.iter_rows(), strict=True))
    assert told == {
        "alma": (["staff", "depot"], [], [], True),
        "bruno": (["staff"], [], [], True),
        "cilla": ([], [], ["guests"], False),
        "safe-1": ([], ["staff"], [], False),
        "darius": (None, [], [], None),
        "emil": (["staff"], [], [], True),
    }
    assert found.on_gates.rows() == [
        (None, 1, None),
        (1, 0, None),
        (None, 0, None),
        (5, 0, None),
    ]


def test_counts_and_names_that_lead_nowhere() -> None:
    """Only accounts that are enabled count; a word that is no account, group or kind is named."""
    known = PEOPLE.filter(pl.col("groups").is_not_null())
    found = reach(known, [Gate("a", covers=("staff", "depot-desk")), Gate("b", covers=("depot-desk",))])
    assert found.on_gates.rows() == [(3, 0, ["depot-desk"]), (0, 0, ["depot-desk"])]


def test_a_gate_for_one_application_is_not_one_for_all() -> None:
    """Whoever is asked at the timetable alone signs in elsewhere without."""
    some = reach(PEOPLE, [Gate("a", applications=("timetable",))]).on_accounts
    assert some["covered-by"].to_list() == [["a"]] * 6
    assert some["second-factor-required"].to_list() == [False] * 6
    for everything in ((), ("*",), ("timetable", "everything")):
        every = reach(PEOPLE, [Gate("a", applications=everything)]).on_accounts
        assert every["second-factor-required"].to_list() == [True] * 6


def test_what_is_not_known_of_a_gate_is_not_guessed() -> None:
    """Neither that it asks, nor that it does not; but another gate that surely asks settles it."""
    for unknown in ({"state": None}, {"covers": None}, {"leaves_out": None}, {"asks_for": None},
                    {"applications": None}):  # fmt: skip
        alone = reach(PEOPLE, [replace(Gate("a"), **unknown)]).on_accounts
        assert alone["second-factor-required"].to_list() == [None] * 6
        both = reach(PEOPLE, [replace(Gate("a"), **unknown), Gate("b")]).on_accounts
        assert both["second-factor-required"].to_list() == [True] * 6


def test_a_gate_for_what_no_false_site_can_relay() -> None:
    """Only if nothing else is enough, and only if it guards everything."""
    for asks_for, resistant in (
        (("phishing-resistant",), True),
        (("hardware-key", "passkey"), True),
        (("passkey", "otp"), False),
        (("any-second",), False),
    ):
        asked = reach(PEOPLE, [Gate("a", asks_for=asks_for)]).on_accounts
        assert asked["phishing-resistant-required"].to_list() == [resistant] * 6, asks_for
        assert asked["second-factor-required"].to_list() == [True] * 6
    some = reach(PEOPLE, [Gate("a", asks_for=("passkey",), applications=("mail",))]).on_accounts
    assert some["phishing-resistant-required"].to_list() == [False] * 6


def test_what_every_gate_accepts() -> None:
    """Any second factor, those that are named, those that no false site can relay; of several what all accept."""
    resistant = {"hardware-key", "passkey", "smartcard"}

    def accepted(*gates: Gate) -> set[str]:
        return set(reach(PEOPLE, gates).on_accounts["accepted-factors"][0])

    everything = accepted()
    assert resistant | {"otp", "push", "sms"} < everything
    assert accepted(Gate("a")) == everything
    assert accepted(Gate("a", asks_for=("otp", "push"))) == {"otp", "push"}
    assert accepted(Gate("a", asks_for=("phishing-resistant", "otp"))) == resistant | {"otp"}
    otp_or_push, resistant_only = (
        Gate("a", asks_for=("otp", "passkey")),
        Gate("b", asks_for=("phishing-resistant",)),
    )
    assert accepted(otp_or_push, resistant_only) == {"passkey"}
    elsewhere = Gate("b", asks_for=("otp",), applications=("mail",))
    assert accepted(elsewhere) == everything, "what one application asks is not asked everywhere"
    assert accepted(Gate("b", "on-trial", asks_for=("otp",))) == everything


def test_no_gate_at_all_asks_nobody() -> None:
    """A source that has gates, and none of them: that is known."""
    assert reach(PEOPLE, []).on_accounts.drop("accepted-factors").row(0) == ([], [], [], False, False)


WORDS = ["staff", "admins", "depot", "person", "guest", "alma", "bruno", "everyone", "nowhere"]
LISTS = st.none() | st.lists(st.sampled_from(WORDS), max_size=3, unique=True).map(tuple)
GATES = st.builds(
    Gate,
    st.sampled_from(["g1", "g2", "g3"]),
    st.sampled_from(["in-force", "on-trial", "off", None]),
    st.none() | st.sampled_from([("any-second",), ("password",), ("otp", "push"), ("passkey",), ()]),
    LISTS,
    LISTS,
    st.sampled_from([(), ("*",), ("mail",), None]),
)
ACCOUNTS = st.lists(
    st.tuples(
        st.sampled_from(["alma", "bruno", "cilla"]),
        st.sampled_from(["person", "guest", None]),
        st.none() | st.lists(st.sampled_from(["staff", "admins", "depot"]), max_size=2),
        st.just(True),
    ),
    max_size=4,
).map(lambda rows: pl.DataFrame(rows, schema=_SCHEMA, orient="row"))


def _named(account: dict[str, Any], words: tuple[str, ...] | None, names: set[str]) -> bool | None:
    """Whether words name an account, one word after the other."""
    if words is None:
        return None
    unsure = False
    for word in words:
        if word in ("everyone", account["name"], account["kind"]) or word in (account["groups"] or ()):
            return True
        if word in ("person", "guest"):
            unsure |= account["kind"] is None
        elif word not in names:
            unsure |= account["groups"] is None
    return None if unsure else False


def _and(*truths: bool | None) -> bool | None:
    if False in truths:
        return False
    return None if None in truths else True


def _not(truth: bool | None) -> bool | None:
    return None if truth is None else not truth


@given(ACCOUNTS, st.lists(GATES, max_size=3, unique_by=lambda gate: gate.name))
def test_against_one_account_at_a_time(accounts: pl.DataFrame, gates: list[Gate]) -> None:
    """Columns say what going through accounts and gates one by one says."""
    names = set(accounts["name"])
    expected = []
    for account in accounts.iter_rows(named=True):
        lists: dict[str, list[str] | None] = {"covered-by": [], "left-out-by": [], "watched-by": []}
        enforced: dict[str, list[bool | None]] = {"any": [], "resistant": []}
        for gate in gates:
            covers, out = (_named(account, each, names) for each in (gate.covers, gate.leaves_out))
            in_force = None if gate.state is None else gate.state == "in-force"
            watching = None if gate.state is None else gate.state == "on-trial"
            told = {
                "covered-by": _and(covers, _not(out), in_force),
                "left-out-by": _and(covers, out, in_force),
                "watched-by": _and(covers, _not(out), watching),
            }
            for name, truth in told.items():
                so_far = lists[name]
                if truth is None or so_far is None:
                    lists[name] = None
                elif truth:
                    so_far.append(gate.name)
            enforced["any"].append(_and(told["covered-by"], gate.asks_second))
            enforced["resistant"].append(_and(told["covered-by"], gate.asks_resistant))
        required = [True if True in each else None if None in each else False for each in enforced.values()]
        expected.append((*lists.values(), *required))
    told = reach(accounts, gates).on_accounts.select(ON_ACCOUNTS)
    assert told.drop("accepted-factors").rows() == expected


@given(ACCOUNTS, st.lists(GATES, min_size=1, max_size=3), st.sampled_from(WORDS))
def test_widening_a_gate_never_lowers_coverage(accounts: pl.DataFrame, gates: list[Gate], word: str) -> None:
    """Covering more asks at least as many; leaving out more asks at most as many."""
    first, *others = gates
    covers, out = first.covers or (), first.leaves_out or ()
    plain = replace(first, covers=covers, leaves_out=out)

    def asked(gate: Gate) -> pl.Series:
        return (
            reach(accounts, [gate, *others])
            .on_accounts["second-factor-required"]
            .cast(pl.Float64)
            .fill_null(0.5)
        )

    # Where everything is told, something is known: else the rest would hold of answers that never come.
    told = replace(
        plain,
        state="in-force",
        covers=("everyone",),
        leaves_out=(),
        asks_for=("any-second",),
        applications=(),
    )
    assert (asked(told) == 1).all()
    nobody = reach(accounts, [replace(told, covers=())]).on_accounts["second-factor-required"]
    assert nobody.to_list() == [False] * accounts.height
    now = asked(plain)
    assert (asked(replace(plain, covers=(*covers, word))) >= now).all()
    assert (asked(replace(plain, leaves_out=(*out, word))) <= now).all()


def test_systems_that_say_it_themselves_beside_one_that_has_gates() -> None:
    """Each is told by its own: the answers of the one are not laid over those of the other."""
    accounts = [
        {"source": "app", "name": "a", "second-factor-enforced": True},
        {"source": "app", "name": "b", "second-factor-enforced": False},
        {"source": "d", "name": "c", "kind": "person", "groups": []},
        {"source": "d", "name": "e", "kind": "guest", "groups": []},
    ]
    gate = {
        "source": "d",
        "gate": "g",
        "state": "in-force",
        "asks-for": ["any-second"],
        "covers": ["person"],
        "leaves-out": [],
    }
    supply = {
        "app": {"account": ["name", "second-factor-enforced"]},
        "d": {
            "account": ["name", "kind", "groups"],
            "gate": ["gate", "state", "asks-for", "covers", "leaves-out"],
        },
    }
    found = passed(mark_gates, linked(bare_evidence(accounts, supply, gate=[gate])))
    assert found.accounts["second-factor-required"].to_list() == [True, False, True, False]
    assert found.accounts["covered-by"].to_list() == [None, None, ["g"], []]
