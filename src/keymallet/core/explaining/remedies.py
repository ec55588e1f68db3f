"""What to do about a breach: by the kind of change that its rule names, and the thing it is found on.

Where something is to be taken away, closed or looked into, that thing is named. To say which facts would have
to read otherwise would say the opposite: that the account of a key to be revoked had better be switched on.
Where a value is to be reached, the rule's own comparison says which: see `remediation`.
"""

from __future__ import annotations

from collections.abc import Mapping

import polars as pl

from keymallet.core.evaluating.context import EvaluationContext
from keymallet.core.explaining.explanation_context import ExplanationContext, QueriedRows
from keymallet.core.explaining.remediation import change
from keymallet.core.facts.declaration import ACCOUNT, ELEVATION, FACTOR, GRANT, KEY, SIGN_IN
from keymallet.core.language import typed
from keymallet.core.rulebook.model import MENDS, Rule

TAKES_AWAY: Mapping[str, tuple[str, str]] = {
    "revoke-key": (KEY.name, "revoke {}"),
    "remove-factor": (FACTOR.name, "remove {}"),
    "remove-grant": (GRANT.name, "take away {}"),
    "limit-grant": (GRANT.name, "give an end to, or make available on request: {}"),
    "close-elevation": (ELEVATION.name, "close {}"),
}
"""Kinds of change that take a row of a table away or shorten it: which table, and how that is said."""

_OF_ACCOUNTS = {
    "switch-off": "switch off {}",
    "change-password": "have a new password set for {}",
    "assign": "find out whose {} is, and record it in its source",
    "unlock": "find out what locked {}, then unlock it",
    "remove-grant": "take every privileged right away from {}",
    "limit-grant": "give the privileged rights of {} an end, or make them available on request",
    "revoke-key": "revoke the keys of {} that it should not have",
    "remove-factor": "remove the factors of {} that it should not have",
    "close-elevation": "close what is open on {}",
}
_OF_KEYS = {
    "renew-key": "replace {} by a new one",
    "separate": "give everybody a key of their own, then remove {} from all other accounts",
}
_LOOKED_INTO = {
    SIGN_IN.name: "find out who it was and what was done, and record it",
    ELEVATION.name: "find out what was done, and record it",
    ACCOUNT.name: "find out what happened, and record it",
}
"""What has happened cannot be changed: it can be explained."""
_LATE = "have such elevations closed in time: this one is over"


def remedy(context: EvaluationContext, rule: Rule, rows: pl.Series, subjects: pl.DataFrame) -> pl.Series:
    """What to do about each of these rows, on which the rule is broken.

    `subjects` has the `account` and the `subject` of each row, as findings name them.
    """
    said = _taken_away(context, rule, rows, subjects)
    if said is None and rule.mend in _OF_ACCOUNTS and rule.table == ACCOUNT.name:
        said = _filled(_OF_ACCOUNTS[rule.mend], subjects["account"])
    if said is None and rule.mend in _OF_KEYS and rule.table == KEY.name:
        said = _filled(_OF_KEYS[rule.mend], subjects["subject"])
    if said is None and rule.mend == "review" and _has_happened(rule):
        said = pl.Series([_LOOKED_INTO[rule.table]], dtype=pl.String).new_from_index(0, len(rows))
    if said is None:
        said = _led_in(rule.mend, change(context, rule.table, rule.must, rows))
    return said.alias("change")


def _led_in(mend: str, changed: pl.Series) -> pl.Series:
    """What has to be reached, behind the kind of change that reaches it."""
    if mend in ("", "review"):
        return changed
    named = pl.col("change")
    led = pl.format("{}: {}", pl.lit(MENDS[mend]), named)
    if mend == "enrol-factor":
        led = pl.when(named.str.starts_with("a factor")).then(pl.format("enrol {}", named)).otherwise(led)
    return changed.alias("change").to_frame().select(led).to_series()


def _taken_away(
    context: EvaluationContext, rule: Rule, rows: pl.Series, subjects: pl.DataFrame
) -> pl.Series | None:
    table, template = TAKES_AWAY.get(rule.mend, ("", ""))
    if table == rule.table:
        said = _filled(template, subjects["subject"])
        return _if_still_open(context, rows, said) if table == ELEVATION.name else said
    if rule.table != ACCOUNT.name:
        return None
    lead, _, _ = template.partition("{}")
    for query in rule.must.walk():
        # Of a question for which there are too few rows, none is to be taken away.
        if isinstance(query, typed.RowQuery) and query.table == table and query.question != "some":
            asked = QueriedRows(ExplanationContext(context, rule.table, rows, rule.must), query)
            named = asked.listed(query.question != "every", lead, "")
            of_account = _filled(_OF_ACCOUNTS.get(rule.mend, template), subjects["account"])
            told = pl.DataFrame([named.alias("named"), of_account.alias("account")])
            # Where the question did not break the rule, something else of the account did.
            return told.select(pl.when(pl.col("named") != "").then("named").otherwise("account")).to_series()
    return None


def _if_still_open(context: EvaluationContext, rows: pl.Series, said: pl.Series) -> pl.Series:
    """Of elevations that are over, that the next ones have to be shorter."""
    closed = context.rows_of(ELEVATION.name, rows)
    if "closed" not in closed.columns:
        return said
    frame = pl.DataFrame([said.alias("said"), closed["closed"].alias("closed")])
    over = pl.col("closed").is_not_null() & (pl.col("closed") <= context.at)
    return frame.select(pl.when(over).then(pl.lit(_LATE)).otherwise("said")).to_series()


def _filled(template: str, names: pl.Series) -> pl.Series:
    return pl.DataFrame({"name": names}).select(pl.format(template, "name")).to_series()


def _has_happened(rule: Rule) -> bool:
    """Whether a rule asks of what is past: of events, or of when an account was last used."""
    if rule.table in (SIGN_IN.name, ELEVATION.name):
        return True
    facts = {node.column.name for node in rule.must.walk() if isinstance(node, typed.Fact)}
    return rule.table == ACCOUNT.name and bool(facts & {"last-sign-in", "use-explained", "failed-attempts"})
