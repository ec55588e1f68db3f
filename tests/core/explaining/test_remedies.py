"""What is said to be done about a breach ends it, and what cannot be changed is to be looked into."""

from __future__ import annotations

from dataclasses import replace
from datetime import timedelta
from pathlib import Path
from typing import Any

import polars as pl
import pytest

from keymallet.core.explaining.findings import findings
from keymallet.core.explaining.remedies import TAKES_AWAY
from keymallet.core.explaining.wording import OPPOSITE
from keymallet.core.facts.evidence import ACCOUNT_ROW, Evidence
from keymallet.core.facts.model import Kind
from keymallet.core.judging.judge import judge
from keymallet.core.judging.verdicts import Verdict
from keymallet.core.language import typed
from keymallet.core.rulebook.model import Rule
from keymallet.core.rulebook.reading import read_rulebook
from keymallet.sources.rulebooks import open_included, shipped_text
from tests.support import AT, CLOCK, days_ago, evidence, judged, newest, rule

_SET: dict[str, dict[str, Any]] = {
    "revoke-key": {"state": "revoked"},
    "remove-factor": {"state": "suspended"},
    "switch-off": {"enabled": False},
    "change-password": {
        "password-changed": AT,
        "initial-password": False,
        "password-empty": False,
        "password-scheme": "yescrypt",
        "password-must-change": False,
        "password-shared-with": [],
        "password-set-with": 0,
    },
}


OPEN_OR_POWERFUL = read_rulebook(
    'title = "T"\n'
    + "".join(
        f'[rule.{fact}]\ntitle = "T"\nseverity = "low"\nmust = "not {fact}"\n'
        for fact in ("usable", "privileged", "holds-power")
    ),
    "held.toml",
)
"""Which accounts somebody can sign in to, and which have power: in breach of these."""


def done(found: Evidence, broken: Rule, rows: pl.Series) -> Evidence:
    """The evidence once what the remedy names was revoked, suspended, switched off or taken away."""
    table = "factor" if broken.mend == "enrol-factor" else TAKES_AWAY.get(broken.mend, ("account", ""))[0]
    frame = found.tables[table].with_row_index("place")
    # Of a rule on accounts, what is theirs is meant.
    key = "place" if table == broken.table else ACCOUNT_ROW
    touched = pl.col(key).is_in(rows.cast(pl.UInt32).implode()).fill_null(False)
    if broken.mend in _SET:
        changes = _SET[broken.mend]
        if "has-password" in str(broken.must):
            changes = {"has-password": False, "password-changed": None, "password-empty": None}
        for column, value in changes.items():
            word = pl.lit(value, dtype=frame[column].dtype)
            frame = frame.with_columns(pl.when(touched).then(word).otherwise(column).alias(column))
    elif broken.mend == "enrol-factor":
        owners = rows.cast(frame[ACCOUNT_ROW].dtype)
        passkey = {"kind": "passkey", "state": "active", "phishing-resistant": True, "registered": AT}
        made = pl.DataFrame({ACCOUNT_ROW: owners}).with_columns(
            pl.lit(value).cast(frame[name].dtype).alias(name) for name, value in passkey.items()
        )
        frame = pl.concat([frame, made], how="diagonal")
    else:
        frame = frame.filter(~touched)
    return replace(found, tables={**found.tables, table: frame.drop("place")})


@pytest.mark.parametrize("book", ["rulebook.toml", "base"])
def test_what_is_to_be_done_ends_the_breach(railway_snapshot: Path, book: str) -> None:
    """Of every rule of these books that takes something away, on everything it finds on the railway."""
    text = shipped_text(book) if book == "base" else (railway_snapshot / book).read_text("utf-8")
    rules = read_rulebook(text, book, open_included)
    before = judge(newest(railway_snapshot).evidence(), rules, AT, CLOCK)
    as_it_was = judge(before.evidence, OPEN_OR_POWERFUL, AT, CLOCK)
    tried = 0
    for broken in rules.rules:
        rows = before.rows(broken, Verdict.BREACH)
        of_accounts = broken.table == "account" or broken.mend != "switch-off"
        enrolled = broken.mend == "enrol-factor" and broken.table == "account"
        if (broken.mend not in (*_SET, "remove-grant") and not enrolled) or not len(rows) or not of_accounts:
            continue
        alone = rules.only(lambda each, one=broken.id: each.id == one)  # type: ignore[misc]
        after = judge(done(before.evidence, broken, rows), alone, AT, CLOCK)
        was = before.codes[broken.id].filter(before.codes[broken.id] == Verdict.BREACH).len()
        assert after.rows(broken, Verdict.BREACH).len() == 0, (broken.id, broken.mend, was)
        # A factor that is enrolled is a way in of the account's own: all else opens nothing.
        held = judge(done(before.evidence, broken, rows), OPEN_OR_POWERFUL, AT, CLOCK)
        for each in OPEN_OR_POWERFUL.rules:
            more = set(held.rows(each, Verdict.BREACH)) - set(as_it_was.rows(each, Verdict.BREACH))
            assert not more, (broken.id, broken.mend, each.id)
        tried += 1
    assert tried >= 20


def goals(node: typed.Typed, wanted: bool = True) -> dict[str, Any] | None:
    """Which facts of a row have to have which values for the expression to hold; None where others bear on it."""
    match node:
        case typed.Not():
            return goals(node.operand, not wanted)
        case typed.Term():
            return goals(node.body, wanted)
        case typed.BoolOp() if (node.word == "and") is wanted:
            parts = [goals(member, wanted) for member in node.members]
            return None if None in parts else {k: v for part in parts for k, v in (part or {}).items()}
        case typed.Known() if node.negated is not wanted:
            return (
                {node.operand.text: AT + timedelta(days=1)} if node.operand.type.kind is Kind.INSTANT else {}
            )
        case typed.Fact() if node.type.kind is Kind.FLAG:
            return {node.column.name: wanted}
        case typed.Within(operand=typed.Fact() as fact) if node.negated is not wanted:
            return {fact.column.name: node.choices.values[0]}
        case typed.Compare(right=typed.Const() | typed.PerPopulation() as right):
            least = right.default.value if isinstance(right, typed.PerPopulation) else right.value
            return _reached(node.left, node.operator if wanted else OPPOSITE[node.operator], least)
        case _:
            return None


def _reached(left: typed.Typed, operator: str, bound: Any) -> dict[str, Any] | None:
    match left:
        case typed.Fact() if operator in ("<=", ">=", "="):
            return {left.column.name: bound}
        case typed.Fact() if operator in ("<", ">") and not isinstance(bound, str):
            return {left.column.name: bound + (1 if operator == ">" else -1)}
        case typed.Call(function="until", arguments=(typed.Fact() as fact,)) if operator in ("<=", "<"):
            return {fact.column.name: AT + bound / 2}
        case typed.Call(function="age", arguments=(typed.Fact() as fact,)) if operator in ("<=", "<"):
            return {fact.column.name: AT}
        case typed.AddSub(operator="-", left=typed.Fact() as end, right=typed.Fact() as start):
            return (
                {start.column.name: AT, end.column.name: AT + bound / 2} if operator in ("<=", "<") else None
            )
        case _:
            return None


@pytest.mark.parametrize(("book", "least"), [("rulebook.toml", 15), ("base", 6)])
def test_values_that_are_to_be_reached_end_the_breach(railway_snapshot: Path, book: str, least: int) -> None:
    """Of settings, ends, keys that are renewed, facts that a source has wrong: with the value of the rule itself."""
    text = shipped_text(book) if book == "base" else (railway_snapshot / book).read_text("utf-8")
    rules = read_rulebook(text, book, open_included)
    before = judge(newest(railway_snapshot).evidence(), rules, AT, CLOCK)
    as_it_was = judge(before.evidence, OPEN_OR_POWERFUL, AT, CLOCK)
    tried = []
    for broken in rules.rules:
        rows, wanted = before.rows(broken, Verdict.BREACH), goals(broken.must)
        by_value = broken.mend in ("change-setting", "set-end", "correct-fact", "renew-key")
        if not (by_value and len(rows) and wanted):
            continue
        frame = before.evidence.tables[broken.table].with_row_index("place")
        touched = pl.col("place").is_in(rows.cast(pl.UInt32).implode())
        for column, value in wanted.items():
            given = pl.lit(value, dtype=frame[column].dtype)
            frame = frame.with_columns(pl.when(touched).then(given).otherwise(column).alias(column))
        changed = replace(
            before.evidence, tables={**before.evidence.tables, broken.table: frame.drop("place")}
        )
        alone = rules.only(lambda each, one=broken.id: each.id == one)  # type: ignore[misc]
        assert judge(changed, alone, AT, CLOCK).rows(broken, Verdict.BREACH).len() == 0, broken.id
        held = judge(changed, OPEN_OR_POWERFUL, AT, CLOCK)
        for each in OPEN_OR_POWERFUL.rules:
            assert set(held.rows(each, Verdict.BREACH)) <= set(as_it_was.rows(each, Verdict.BREACH)), (
                broken.id
            )
        tried.append(broken.id)
    assert len(tried) >= least, tried


@pytest.mark.parametrize(
    ("mend", "must", "each", "told"),
    [
        ("revoke-key", "account.enabled", "key", "revoke API key k1"),
        ("renew-key", "expires is known", "key", "replace API key k1 with a new one"),
        ("switch-off", "last-sign-in is known", "account", "disable d/a0"),
        ("change-password", "age(password-changed) <= 9d", "account", "set a new password for d/a0"),
        ("review", "last-sign-in is known", "account", "find out who used it and why, and record the use in the register"),
        ("revoke-key", "no key (kind = api-key)", "account", "revoke API key k1"),
        ("revoke-key", "enabled and no key (kind = session)", "account", "revoke the keys of d/a0 that it should not have"),
        ("remove-grant", "some key (kind = session)", "account", "remove every privileged right of d/a0"),
        ("enrol-factor", "some factor (kind = otp)", "account", "enrol a code app"),
        ("assign", "owner is known", "account", "find an owner for d/a0, and record it in its source"),
        ("assign", "manager-status != left", "account", "enter the present manager of d/a0 in its source"),
        ("assign", "on-roster", "account", "find out who owns d/a0, and record it in its source"),
        ("review", "drilled is known and age(drilled) <= 9d", "account", "try it in a drill, and record the drill in the register"),
        ("", "failed-attempts < 3 or enabled", "account", "find out who fails to sign in to it, and why"),
        ("change-setting", "no way-in (over = service)", "account", "close: API key k1 for programs"),
        ("set-end", "ends is known and ends - created <= 9d", "account", "set an end date: at most 9 d from created to ends"),
        ("change-setting", "not initial-password", "account", "change the setting: has changed the password it was handed"),
    ],
)  # fmt: skip
def test_the_kind_of_change_and_the_thing_decide(mend: str, must: str, each: str, told: str) -> None:
    """Never the opposite of a fact that only makes the breach serious: nobody is to be switched on again."""
    account = {
        "enabled": False,
        "last_sign_in": None,
        "password_changed": days_ago(90),
        "initial_password": True,
        "failed_attempts": 9,
        "owner": None,
        "manager_status": "left",
        "on_roster": False,
        "drilled": None,
        "ends": None,
        "created": days_ago(1),
    }
    key = {"of": 0, "key": "k1", "kind": "api-key", "state": "active", "expires": None}
    broken = rule(must, extra="", each=each).replace("severity", f'mend = "{mend}"\nseverity', 1)
    (found,) = findings(judged(evidence([account], key=[key], factor=[]), broken)).rows(named=True)
    assert found["change"] == told


def test_an_elevation_that_is_over_cannot_be_closed() -> None:
    """One that still stands can."""
    rows = [
        {"starts": days_ago(3), "closed": days_ago(2)},
        {"starts": days_ago(3), "closed": None, "elevation": "E2"},
    ]
    world = evidence(
        [{}],
        elevation=[
            {"of": 0, "lasted": days_ago(0) - days_ago(1), "outcome": "opened", **row} for row in rows
        ],
    )
    broken = rule("lasted <= 8h", each="elevation").replace(
        "severity", 'mend = "close-elevation"\nseverity', 1
    )
    over, stands = findings(judged(world, broken))["change"]
    assert over.startswith("see to it that such elevations end in time") and stands.startswith(
        "end the elevation E2"
    )
