"""Changes tried on the evidence: what they end, what they would newly break, what is set aside."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from itertools import count

import polars as pl

from keymallet.core.explaining.finding_subject import subjects_of
from keymallet.core.facts.declaration import ACCOUNT, PERSON, TABLES
from keymallet.core.facts.evidence import ACCOUNT_ROW, PERSON_ROW
from keymallet.core.judging.judge import Judgement
from keymallet.core.judging.tallies import GROUP
from keymallet.core.judging.verdicts import Verdict
from keymallet.core.mending.blame import blamed_for, likeliest, nobody, off_by
from keymallet.core.mending.changes import FORM, PROPOSAL, ROW
from keymallet.core.rulebook.model import Rule

KNOWN_BY = ("rule", "account", "subject")
"""What a breach is known by in both judgings."""
_MOST_TRIES = 8
"""Judgings in which, of several changes of one account, only the likeliest is blamed."""


@dataclass(frozen=True)
class Trial:
    """What came of trying: KNOWN_BY and `severity` of each breach.

    `ended` are breaches that would be gone, `broken` those that would be new, both with all changes made that
    are not set aside; a number that is wrong already and would be further off counts as broken. `aside` are
    the proposals that are set aside, with `why`: the rule each would break, on which other account; `idle`
    those whose change would end nothing, such as a new password where there should be none.
    """

    ended: pl.DataFrame
    broken: pl.DataFrame
    aside: pl.DataFrame
    idle: pl.Series


def tried(
    changes: pl.DataFrame,
    before: Judgement,
    judged_with: Callable[[pl.DataFrame], Judgement],
    *,
    even_if_it_breaks: bool,
) -> Trial:
    """Try changes: PROPOSAL, KNOWN_BY of its finding, `severity`, TABLE, ROW and `account-row` of each.

    `before` is the judgement without any, `judged_with` gives the one with some. What newly breaks something
    at or above its own severity is set aside: the changes to the account that would be in breach, or others
    of its person; where a number would be wrong, to the accounts that count no longer; until none is left.
    """
    was = breaches(before)
    left, aside, idle = changes, [nobody()], changes[PROPOSAL].clear()
    for tries in count():
        after = judged_with(left)
        now = breaches(after)
        broken = pl.concat(
            [now.join(was, on=KNOWN_BY, how="anti", nulls_equal=True), _further_off(was, now, before, after)]
        )
        of_each = left.select(PROPOSAL).hstack([_ends(left, now)]).group_by(PROPOSAL, maintain_order=True)
        none = of_each.agg(pl.col("ends").any()).filter(~pl.col("ends"))[PROPOSAL]
        blamed = nobody() if even_if_it_breaks else blamed_for(broken, left, before, after)
        if tries < _MOST_TRIES:
            blamed = likeliest(blamed, left)
        if not blamed.height and not len(none):
            break
        idle = pl.concat([idle, none])
        aside.append(blamed.filter(~pl.col(PROPOSAL).is_in(none.implode())))
        left = left.filter(~pl.col(PROPOSAL).is_in(pl.concat([none, blamed[PROPOSAL]]).implode()))
    ended = was.join(now, on=KNOWN_BY, how="anti", nulls_equal=True)
    return Trial(ended, broken, pl.concat(aside), idle)


def without_idle(proposed: pl.DataFrame, trial: Trial) -> pl.DataFrame:
    """The proposals, those whose change would end nothing as ones for people: what does, is not known."""
    is_idle = pl.col(PROPOSAL).is_in(trial.idle.implode())
    return proposed.with_columns(
        pl.when(is_idle).then(None).otherwise(name).alias(name) for name in (ROW, FORM)
    )


def about(breach: Mapping[str, str | None]) -> str:
    """Whom a breach is on, in words: the account and what of it; of a number, all accounts."""
    named = " ".join(part for part in (breach["account"], breach["subject"]) if part)
    return named or "a number over all accounts"


def for_people(finding: Mapping[str, str | None]) -> str:
    """What people have to do about a finding, with whom it is about where the words do not say."""
    who, change = about(finding), finding["change"] or ""
    account, subject = finding["account"], finding["subject"] or ""
    if account and account in change:
        return change
    # The change names the key or right itself: its id is not said twice.
    is_named = bool(subject) and max(subject.split(), key=len) in change
    return f"{account if account and is_named else who}: {change}"


def breaches(judgement: Judgement) -> pl.DataFrame:
    """Every breach of a judgement: KNOWN_BY, its severity, and the rows of its account and person."""
    parts = [_no_breaches()]
    rules = judgement.rulebook.rules
    # Whom they are on is asked once for each table, not for each rule.
    for table in dict.fromkeys(rule.table for rule in rules):
        parts.append(_on_rows(judgement, [rule for rule in rules if rule.table == table]))
    for tally in judgement.rulebook.tallies:
        numbers = judgement.numbers[tally.id].filter(pl.col("verdict") == int(Verdict.BREACH))
        nobody = pl.lit(None, dtype=pl.String)
        told = numbers.select(
            pl.lit(tally.id).alias("rule"),
            nobody.alias("account"),
            pl.col(GROUP).cast(pl.String).alias("subject"),
            pl.lit(tally.severity.word).alias("severity"),
            *(pl.lit(None, dtype=pl.UInt32).alias(name) for name in (ACCOUNT_ROW, PERSON_ROW)),
        )
        parts.append(told)
    # In the order of the rulebook, as the rules of different tables stand in it.
    place = {demand.id: number for number, demand in enumerate(judgement.rulebook.demands)}
    by = pl.col("rule").replace_strict(place, return_dtype=pl.Int64)
    return pl.concat(parts).sort(by, maintain_order=True)


def _on_rows(judgement: Judgement, rules: list[Rule]) -> pl.DataFrame:
    """The breaches of rules on the rows of one table."""
    of_each = [judgement.rows(rule, Verdict.BREACH) for rule in rules]
    rows = pl.concat(of_each)
    if not len(rows):
        return _no_breaches()
    who = subjects_of(judgement.context, TABLES[rules[0].table], rows).select("account", "subject")
    accounts = judgement.accounts(rules[0], rows).cast(pl.UInt32)
    of_people = judgement.context.frames[ACCOUNT.name][PERSON_ROW].cast(pl.UInt32)
    people = rows.cast(pl.UInt32) if rules[0].table == PERSON.name else of_people.gather(accounts)
    of_rules = pl.DataFrame(
        {
            "rule": [rule.id for rule in rules],
            "severity": [rule.severity.word for rule in rules],
            "number": [len(each) for each in of_each],
        }
    )
    told = of_rules.filter(pl.col("number") > 0).select(pl.col("rule", "severity").repeat_by("number"))
    told = told.explode("rule", "severity")
    named = who.with_columns(pl.col("account", "subject").cast(pl.String)).hstack(told)
    named = named.with_columns(accounts.alias(ACCOUNT_ROW), people.alias(PERSON_ROW))
    return named.select(_no_breaches().columns)


def _no_breaches() -> pl.DataFrame:
    schema = dict.fromkeys((*KNOWN_BY, "severity"), pl.String())
    return pl.DataFrame(schema={**schema, ACCOUNT_ROW: pl.UInt32(), PERSON_ROW: pl.UInt32()})


def _further_off(was: pl.DataFrame, now: pl.DataFrame, before: Judgement, after: Judgement) -> pl.DataFrame:
    """The breaches of numbers that were wrong already, and are further off: the last one of too few gone."""
    parts = [now.clear()]
    for tally in after.rulebook.tallies:
        mine = now.filter(pl.col("rule") == tally.id).join(was, on=KNOWN_BY, how="semi", nulls_equal=True)
        if mine.height:
            earlier, later = off_by(before, tally), off_by(after, tally)
            worse = [abs(later.get(group, 0)) > abs(earlier.get(group, 0)) for group in mine["subject"]]
            parts.append(mine.filter(pl.Series(worse, dtype=pl.Boolean)))
    return pl.concat(parts)


def _ends(changes: pl.DataFrame, now: pl.DataFrame) -> pl.Series:
    """For each finding whether it is gone."""
    known = changes.select(pl.col(name).cast(pl.String) for name in KNOWN_BY)
    stands = now.select(*KNOWN_BY, pl.lit(value=True).alias("stands")).unique()
    joined = known.join(stands, on=KNOWN_BY, how="left", nulls_equal=True, maintain_order="left")
    return joined["stands"].is_null().alias("ends")
