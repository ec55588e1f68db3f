"""The report of factors: who can prove what, to which level, and what makes them."""

from __future__ import annotations

from keymallet.core.topics.report import STATE, by_group
from tests.core.topics.support import headline, note, of_each, report_of, sentences
from tests.support import days_ago, evidence


def person(name: str, **more: object) -> dict[str, object]:
    return {
        "name": name, "kind": "person", "enabled": True, "interactive": True, "has_password": True,
        "starts": None, "ends": None, "locked": False, "unit": "Track", "stable_id": name, **more,
    }  # fmt: skip


def factor(of: int, kind: str, state: str = "active", **more: object) -> dict[str, object]:
    return {
        "of": of,
        "kind": kind,
        "state": state,
        "registered": days_ago(30),
        "last_used": days_ago(1),
        **more,
    }


KINDS = ["none", "sms", "otp", "passkey", "hardware-key", "recovery-codes", "smartcard"]


def test_coverage_and_level() -> None:
    """Each kind of factor beside a password, all asked for one; suspended ones prove nothing."""
    accounts = [person(kind, second_factor_required=True) for kind in [*KINDS, "mixed", "lapsed"]]
    factors = [factor(place, kind) for place, kind in enumerate(KINDS) if kind != "none"]
    factors += [factor(7, "sms"), factor(7, "passkey"), factor(8, "passkey", "suspended")]
    report = report_of("factors", evidence(accounts, factor=factors, key=[], grant=[], elevation=[]))
    assert of_each(report, STATE) == {
        "none": "none", "sms": "weak only", "otp": "second factor", "passkey": "resistant",
        "hardware-key": "resistant", "recovery-codes": "weak only", "smartcard": "resistant",
        "mixed": "resistant", "lapsed": "none",
    }  # fmt: skip
    assert of_each(report, "level") == {
        "none": "AAL1", "sms": "AAL2", "otp": "AAL2", "passkey": "AAL2", "hardware-key": "AAL3",
        "recovery-codes": "AAL1", "smartcard": "AAL3", "mixed": "AAL2", "lapsed": "AAL1",
    }  # fmt: skip


def test_the_level_is_that_of_the_weakest_way_from_afar() -> None:
    """What is held and not asked for raises nothing; a console is not from afar."""
    accounts = [
        person("unasked", second_factor_required=False),
        person("empty", second_factor_required=False, password_empty=True),
        person("unknown"),
    ]
    factors = [factor(place, "otp") for place in range(3)]
    report = report_of("factors", evidence(accounts, factor=factors, key=[]))
    levels = of_each(report, "level")
    assert levels == {"unasked": "AAL1", "empty": "AAL0", "unknown": "unproven"}
    host = [person("host", remote_password=False, remote_key=True, remote_together=[])]
    report = report_of("factors", evidence(host, factor=[], key=[]))
    assert of_each(report, "level") == {"host": "console"}


def test_who_cannot_sign_in_is_not_counted() -> None:
    """Disabled, ended, locked, or without a console: not part of the coverage."""
    accounts = [
        person("in"), person("off", enabled=False), person("ended", ends=days_ago(1)),
        person("locked", locked=True), person("machine", interactive=False),
    ]  # fmt: skip
    report = report_of("factors", evidence(accounts, factor=[factor(0, "otp")], key=[]))
    assert of_each(report, STATE) == {"in": "second factor"}


def test_what_no_source_tells_is_unproven() -> None:
    """Neither none nor covered; and of gates nothing is claimed."""
    report = report_of("factors", evidence([person("a")]))
    assert of_each(report, STATE) == {"a": "unproven"}
    assert of_each(report, "gate") == {"a": "unproven"}
    assert headline(report).endswith("no second factor, or only a weak one, 1 not known (data missing)")
    assert "No source reports sign-in requirements" in sentences(report)[1]
    assert not report.sections


def test_lines_of_their_own() -> None:
    """The owner by the book's own term, emergency accounts, administrators; then by kind."""
    accounts = [
        person("owner"), person("admin"), person("safe", kind="emergency"), person("guest", kind="guest"),
    ]  # fmt: skip
    grants = [{"of": place, "role": "all", "privileged": True, "mode": "standing", "starts": None, "ends": None}
              for place in (0, 1, 2)]  # fmt: skip
    found = evidence(accounts, factor=[], grant=grants, elevation=[], key=[])
    report = report_of("factors", found, "[terms]\nsystem-owner = \"name = 'owner'\"")
    assert of_each(report, "population") == {
        "owner": "owner", "admin": "administrator", "safe": "emergency", "guest": "guest",
    }  # fmt: skip


def test_what_gates_make_of_it() -> None:
    """Asked, left out, only watched or between; those who could and need not are counted."""
    nobody: list[str] = []
    gates = [
        ("asked", ["g"], nobody, nobody, True),
        ("out", nobody, ["g"], nobody, False),
        ("watched", nobody, nobody, ["w"], False),
        ("between", nobody, nobody, nobody, False),
    ]
    accounts = [
        person(name, covered_by=by, left_out_by=out, watched_by=watched, second_factor_required=enforced)
        for name, by, out, watched, enforced in gates
    ]
    gate = [{"gate": "g", "state": "in-force", "asks_for": ["otp"], "asks_accounts": 0, "names_nobody": []}]
    found = evidence(accounts, factor=[factor(0, "otp"), factor(3, "otp")], gate=gate, key=[])
    report = report_of("factors", found)
    assert of_each(report, "gate") == {
        "asked": "asked", "out": "left out", "watched": "on trial", "between": "covered by none",
    }  # fmt: skip
    assert sentences(report)[2].startswith("1 have a second factor that no requirement asks for")
    assert by_group(report, "gate")["not asked"].sum() == 3
    assert note(report, "gates") == "asks nobody: g"


def test_factors_that_want_a_look() -> None:
    """One device of two people, one never used, one that waits to be confirmed."""
    accounts = [person("a"), person("b"), person("c")]
    factors = [
        factor(0, "otp", shared_with=["d/b"]), factor(1, "otp", shared_with=["d/a"]),
        factor(2, "push", last_used=None, shared_with=[]), factor(2, "sms", "pending", shared_with=[]),
    ]  # fmt: skip
    (section,) = report_of("factors", evidence(accounts, factor=factors, key=[])).sections
    assert section.rows.rows() == [
        ("one device, several people", 2, ["otp"], ["d/a", "d/b"]),
        ("registered, never used", 1, ["push"], ["d/c"]),
        ("waits to be confirmed", 1, ["sms"], ["d/c"]),
    ]


def test_groups_count_everybody_once_the_worst_first() -> None:
    """Whatever the grouping, the states of all groups together are all rows."""
    accounts = [person(f"p{number}", unit=["Track", "Stations", None][number % 3]) for number in range(9)]
    factors = [factor(number, "otp") for number in (0, 3, 6, 1)]
    report = report_of("factors", evidence(accounts, factor=factors, key=[]))
    groups = by_group(report, "unit")
    assert groups.rows() == [
        (None, 3, 3, 0, 0, 0, 0, 0), ("Stations", 3, 2, 0, 0, 1, 0, 0), ("Track", 3, 0, 0, 0, 3, 0, 0),
    ]  # fmt: skip


def test_gates_that_reach_fewer_than_they_seem_to_stand_first() -> None:
    """In force and asking nobody; then what only watches, what asks, what is off."""
    gates = [
        {"gate": "off", "state": "off", "asks_accounts": 0},
        {"gate": "asks", "state": "in-force", "asks_accounts": 1},
        {"gate": "watches", "state": "on-trial", "asks_accounts": 0},
        {"gate": "idle", "state": "in-force", "asks_accounts": 0},
    ]
    found = report_of("factors", evidence([{"enabled": True, "has_password": True}], gate=gates))
    (section,) = [part for part in found.sections if part.name == "gates"]
    assert section.rows["gate"].to_list() == ["idle", "watches", "asks", "off"]


def test_a_source_that_says_only_yes_or_no() -> None:
    """It is taken at its word; where it says nothing, nobody can tell. A source with factors tells by these."""
    rows = [person(str(said), second_factor_registered=said, source="d") for said in (True, False, None)]
    facts = [key.replace("_", "-") for key in rows[0] if key != "source"]
    world = evidence(rows, {"d": {"account": facts, "key": [], "grant": [], "elevation": []}})
    assert of_each(report_of("factors", world), STATE) == {
        "True": "second factor",
        "False": "none",
        "None": "unproven",
    }
    doubtful = [person("x", second_factor_registered=True, source="d")]
    supply = {"account": facts, "factor": ["kind", "state"], "key": [], "grant": [], "elevation": []}
    known = evidence(doubtful, {"d": supply}, factor=[{"of": 0, "kind": None, "state": "active"}])
    assert of_each(report_of("factors", known), STATE) == {"x": "unproven"}
