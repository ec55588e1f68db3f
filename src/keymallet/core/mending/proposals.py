"""Findings and what would mend them: one proposal for all that the same change ends."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import polars as pl

from keymallet.core.evaluating.context import columns_used
from keymallet.core.explaining.findings import Alike, describe, with_verdict
from keymallet.core.facts.declaration import ACCOUNT, TABLES
from keymallet.core.facts.evidence import ACCOUNT_ROW
from keymallet.core.judging.judge import Judgement
from keymallet.core.mending.changes import PROPOSAL, ROW, TABLE, Act, grade
from keymallet.core.rulebook.model import Rule, Tally

ORDER = (
    "enrol-factor", "assign", "unlock", "correct-fact", "set-end", "change-setting", "close-elevation",
    "limit-grant", "remove-grant", "revoke-key", "renew-key", "remove-factor", "separate", "change-password",
    "switch-off", "review",
)  # fmt: skip
"""The order in which kinds of change are made: what lets somebody in before what is then demanded of them; an
account is switched off last, when nothing hangs on it any more."""


def rows_of(
    judgement: Judgement, found: Sequence[Alike], acts: Mapping[tuple[str, str], Act]
) -> pl.DataFrame:
    """For each of these findings its `place`, rule, severity, verdict, account, and what its remedy changes.

    That is TABLE and ROW; ROW is null where no change of a fact is known to mend it: it is for people.
    """
    parts = [pl.DataFrame(schema={TABLE: pl.String, ROW: pl.UInt32, ACCOUNT_ROW: pl.UInt32, **_OF_RULE})]
    for each in found:
        table = each.demand.table
        height = _height(judgement, each)
        rows = accounts = pl.Series([None], dtype=pl.UInt32).new_from_index(0, height)
        if each.rows is not None and isinstance(each.demand, Rule):
            accounts = judgement.accounts(each.demand, each.rows).cast(pl.UInt32)
            act = acts.get((each.demand.mend, table))
            if act is not None and not _never_ends(each.demand, act):
                rows = each.rows.cast(pl.UInt32)
            elif act is None and (each.demand.mend, ACCOUNT.name) in acts and TABLES[table].of_account:
                rows, table = accounts, ACCOUNT.name
        of_rule = [
            pl.lit(each.demand.id).alias("rule"),
            pl.lit(each.demand.severity.word).alias("severity"),
            pl.lit(int(each.verdict), dtype=pl.Int64).alias("verdict"),
        ]
        told = pl.DataFrame({ROW: rows, ACCOUNT_ROW: accounts})
        parts.append(told.select(pl.lit(table).alias(TABLE), ROW, ACCOUNT_ROW, *of_rule))
    return pl.concat(parts).with_row_index("place")


_OF_RULE = {"rule": pl.String, "severity": pl.String, "verdict": pl.Int64}


def _never_ends(rule: Rule, act: Act) -> bool:
    """Whether the change sets nothing that the rule asks about, such as a new password where none should be.

    What is worked out from other facts, or over all sources, may hang on anything: trying tells.
    """
    if act.removes or act.removed_in:
        return False
    used = columns_used((rule.table, expression) for expression in rule.expressions)
    columns = [TABLES[table].column(name) for table, names in used.items() for name in names]
    plain = [
        column for column in columns if column is not None and not column.definition and not column.across
    ]
    return len(plain) == len(columns) and not any(column.name in act.sets for column in plain)


def _height(judgement: Judgement, each: Alike) -> int:
    """How many findings these are."""
    if each.rows is not None:
        return len(each.rows)
    if isinstance(each.demand, Tally):
        return with_verdict(judgement, each.demand, each.verdict).height
    return 1


def described(judgement: Judgement, found: Sequence[Alike], places: pl.Series) -> pl.DataFrame:
    """What is said of the findings at these places among all that were found, in their order."""
    wanted, start, mine, kept = set(places), 0, [], []
    put = 0
    for each in found:
        height = _height(judgement, each)
        own = [place - start for place in range(start, start + height) if place in wanted]
        start += height
        if not own:
            continue
        # Numbers are described all together: of these, only the ones that are wanted stay.
        mine.append(each if each.rows is None else each._replace(rows=each.rows.gather(own)))
        kept += [put + place for place in (own if each.rows is None else range(len(own)))]
        put += height if each.rows is None else len(own)
    return describe(judgement, mine, timed=False)[kept]


def numbered(findings: pl.DataFrame) -> pl.DataFrame:
    """The findings with their PROPOSAL, counted from 1 in the order in which the changes are made.

    Those that the same change of the same row ends have the same; of those for people, the ones with the same
    words about the same account.
    """
    order = {kind: place for place, kind in enumerate(ORDER)}
    by_words = pl.when(pl.col(ROW).is_null()).then(pl.col("change"))
    keyed = findings.with_columns(
        by_words.alias("words"),
        pl.when(pl.col(ROW).is_null()).then(pl.col("account")).alias("whose"),
        pl.col("mend").replace_strict(order, default=len(ORDER), return_dtype=pl.Int64).alias("place"),
        grade().alias("grade"),
    )
    key = ["mend", TABLE, ROW, "words", "whose"]
    ranked = keyed.group_by(key, maintain_order=True).agg(pl.col("place").first(), pl.col("grade").max())
    ranked = ranked.sort("place", "grade", descending=[False, True], maintain_order=True)
    ranked = ranked.with_row_index(PROPOSAL, 1).with_columns(pl.col(PROPOSAL).cast(pl.Int64))
    joined = keyed.join(
        ranked.select(*key, PROPOSAL), on=key, how="left", maintain_order="left", nulls_equal=True
    )
    return joined.drop("words", "whose", "place", "grade").sort(PROPOSAL, maintain_order=True)


def needless(proposed: pl.DataFrame) -> pl.DataFrame:
    """What another proposal makes needless: PROPOSAL, `account`, `subject`, `change`, and which `other` one.

    An account that is switched off needs no new password, no factor, no key and no unlocking.
    """
    off = proposed.filter((pl.col("mend") == "switch-off") & pl.col(ROW).is_not_null())
    by = off.group_by("account", maintain_order=True).agg(pl.col(PROPOSAL).first().alias("other"))
    mine = proposed.filter(pl.col("mend").is_in(_NEEDLESS)).unique(PROPOSAL, maintain_order=True)
    told = (PROPOSAL, "account", "subject", "change", "other")
    return mine.join(by, on="account", how="inner", maintain_order="left").select(told)


_NEEDLESS = ("enrol-factor", "unlock", "set-end", "renew-key", "change-password")
