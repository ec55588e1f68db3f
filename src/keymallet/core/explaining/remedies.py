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
from keymallet.core.explaining.remediation import MAKE_SURE, change
from keymallet.core.explaining.row_names import named_by, row_name
from keymallet.core.facts.declaration import ACCOUNT, ELEVATION, FACTOR, GRANT, KEY, SIGN_IN, TABLES
from keymallet.core.language import typed
from keymallet.core.rulebook.model import Rule

TAKES_AWAY: Mapping[str, tuple[str, str]] = {
    "revoke-key": (KEY.name, "revoke {}"),
    "remove-factor": (FACTOR.name, "remove {}"),
    "remove-grant": (GRANT.name, "remove the right {}"),
    "limit-grant": (GRANT.name, "set an end for, or make available on request only: {}"),
    "close-elevation": (ELEVATION.name, "end the elevation {}"),
}
"""Kinds of change that take a row of a table away or shorten it: which table, and how that is said."""

_OF_ACCOUNTS = {
    "switch-off": "disable {}",
    "change-password": "set a new password for {}",
    "assign": "find out who owns {}, and record it in its source",
    "unlock": "find out what locked {}, then unlock it",
    "remove-grant": "remove every privileged right of {}",
    "limit-grant": "set an end for the privileged rights of {}, or make them available on request only",
    "revoke-key": "revoke the keys of {} that it should not have",
    "remove-factor": "remove the factors of {} that it should not have",
    "close-elevation": "end the elevations of {}",
}
_ASSIGNED = {
    "owner": "find an owner for {}, and record it in its source",
    "manager": "enter the present manager of {} in its source",
}
"""What is assigned, where a rule asks for whoever answers for an account."""
_OF_KEYS = {
    "renew-key": "replace {} with a new one",
    "separate": "give each person a key of their own, then remove {} from all other accounts",
}
_LOOKED_INTO = {
    SIGN_IN.name: "find out who it was and what was done, and record it in the register",
    ELEVATION.name: "find out what was done, and record it",
}
"""What has happened cannot be changed: it can be explained."""
_LEADS = {
    "enrol-factor": "enrol a factor: ",
    "change-setting": "change the setting: ",
    "correct-fact": "change in its source: ",
    "set-end": "set an end: ",
    "limit-grant": "limit the privilege: ",
}
"""What leads in a value that has to be reached, by the kind of change."""
_LATE = "see to it that such elevations end in time: this one has ended"


def remedy(explained: ExplanationContext, rule: Rule, subjects: pl.DataFrame) -> pl.Series:
    """What to do about each of these rows, on which the rule's `must` is false.

    `subjects` has the `account` of each row, as findings name it.
    """
    said = _taken_away(explained, rule, subjects)
    if said is None and rule.mend in _OF_ACCOUNTS and rule.table == ACCOUNT.name:
        template = _ASSIGNED.get(_answering(rule)) if rule.mend == "assign" else None
        said = _filled(template or _OF_ACCOUNTS[rule.mend], subjects["account"])
    if rule.mend == "change-password" and _asks_for_none(rule.must):
        said = _filled("remove the password of {}", subjects["account"])
    if said is None and rule.mend in _OF_KEYS and rule.table == KEY.name:
        said = _filled(_OF_KEYS[rule.mend], _called(explained))
    if said is None and rule.mend == "review" and rule.table in _LOOKED_INTO:
        said = pl.Series([_LOOKED_INTO[rule.table]], dtype=pl.String).new_from_index(0, len(explained.rows))
    if said is None:
        said = change(explained, _LEADS.get(rule.mend, MAKE_SURE))
        if rule.mend == "enrol-factor":
            said = said.str.replace("^(add|enrol a factor: has) a", "enrol a")
    return said.alias("change")


def _called(explained: ExplanationContext) -> pl.Series:
    """The rows as people call them: `API key GVR-K-0041`."""
    context, table = explained.context, TABLES[explained.table]
    known = context.frames[table.name].columns
    frame = context.rows_of(table.name, explained.rows, [name for name in named_by(table) if name in known])
    return frame.select(row_name(table, frame.columns, context.clock).alias("subject")).to_series()


def _taken_away(explained: ExplanationContext, rule: Rule, subjects: pl.DataFrame) -> pl.Series | None:
    table, template = TAKES_AWAY.get(rule.mend, ("", ""))
    if table == rule.table:
        said = _filled(template, _called(explained))
        return _if_still_open(explained.context, explained.rows, said) if table == ELEVATION.name else said
    if rule.table != ACCOUNT.name:
        return None
    lead, _, _ = template.partition("{}")
    for query in rule.must.walk():
        # Of a question for which there are too few rows, none is to be taken away.
        if isinstance(query, typed.RowQuery) and query.table == table and query.question != "some":
            asked = QueriedRows(explained, query)
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


def _answering(rule: Rule) -> str:
    """Whether a rule asks for an owner or a manager: the first that it names; empty if for neither."""
    facts = (node.column.name for node in rule.must.walk() if isinstance(node, typed.Fact))
    return next((who for fact in facts for who in _ASSIGNED if fact.startswith(who)), "")


def _asks_for_none(must: typed.Typed) -> bool:
    """Whether there must be no password at all: a new one would not help."""
    return isinstance(must, typed.Not) and any(
        isinstance(node, typed.Fact) and node.column.name == "has-password" for node in must.walk()
    )
