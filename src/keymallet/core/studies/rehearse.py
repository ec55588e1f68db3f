"""The same evidence under another book: who would newly be in breach, and who no longer."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import timedelta
from typing import Any

import polars as pl
import tomlkit

from keymallet.core.explaining.finding_subject import subjects_of
from keymallet.core.facts.declaration import TABLES
from keymallet.core.judging.judge import Judgement
from keymallet.core.judging.verdicts import Verdict
from keymallet.core.language.literals import parse_span
from keymallet.core.language.scope import Limit
from keymallet.core.rulebook.model import Demand, Rule, Rulebook, Tally

NEWLY, NO_LONGER, NEWLY_PENDING = "newly", "no longer", "newly pending"
COLUMNS = ("change", "rule", "title", "severity", "account", "subject", "display", "unit", "kind")


@dataclass(frozen=True)
class Difference:
    """How one rule comes out under two books; None where a book does not have it.

    What is still under grace is told apart: it is no breach yet, and becomes one by time alone.
    """

    rule: Demand
    before: int | None
    after: int | None
    newly: int
    no_longer: int
    pending_before: int = 0
    pending_after: int = 0


def differences(before: Judgement, after: Judgement) -> list[Difference]:
    """Rule by rule, those of the later book first in its order, then those it no longer has."""
    changes = []
    old = {demand.id: demand for demand in before.rulebook.demands}
    new = {demand.id: demand for demand in after.rulebook.demands}
    for rule_id in [*new, *(old_rule for old_rule in old if old_rule not in new)]:
        was, is_now = _breaches(before, old.get(rule_id)), _breaches(after, new.get(rule_id))
        rule = new.get(rule_id) or old[rule_id]
        comparable = _are_alike(old.get(rule_id), new.get(rule_id))
        gained, lost = (_minus(is_now, was), _minus(was, is_now)) if comparable else (is_now, was)
        changes.append(
            Difference(
                rule,
                None if rule_id not in old else len(was),
                None if rule_id not in new else len(is_now),
                len(gained),
                len(lost),
                _pending(before, old.get(rule_id)),
                _pending(after, new.get(rule_id)),
            )
        )
    return changes


def _are_alike(old: Demand | None, new: Demand | None) -> bool:
    if old is None or new is None:
        return True
    return type(old) is type(new) and old.table == new.table


def _breaches(judgement: Judgement, demand: Demand | None) -> pl.Series:
    """The rows in breach; of a tally, the groups whose number is off."""
    if isinstance(demand, Tally):
        numbers = judgement.numbers[demand.id]
        return numbers.filter(pl.col("verdict") == int(Verdict.BREACH))["group"].fill_null("")
    if isinstance(demand, Rule):
        return judgement.rows(demand, Verdict.BREACH)
    return pl.Series([], dtype=pl.UInt32)


def _pending(judgement: Judgement, demand: Demand | None) -> int:
    return len(judgement.rows(demand, Verdict.PENDING)) if isinstance(demand, Rule) else 0


def _minus(rows: pl.Series, others: pl.Series) -> pl.Series:
    if not len(rows) or not len(others):
        return rows
    return rows.filter(~rows.is_in(others.implode()))


def changed_rows(before: Judgement, after: Judgement) -> pl.DataFrame:
    """Each row that is newly in breach of a rule or no longer is, with COLUMNS."""
    parts = [pl.DataFrame(schema=dict.fromkeys(COLUMNS, pl.String))]
    old = {rule.id: rule for rule in before.rulebook.rules}
    new = {rule.id: rule for rule in after.rulebook.rules}
    for rule_id in dict.fromkeys([*new, *old]):
        was, is_now = _breaches(before, old.get(rule_id)), _breaches(after, new.get(rule_id))
        if rule_id in new:
            parts.append(_described(after, new[rule_id], _minus(is_now, was), NEWLY))
            late = after.rows(new[rule_id], Verdict.PENDING)
            before_too = before.rows(old[rule_id], Verdict.PENDING) if rule_id in old else late.clear()
            parts.append(
                _described(after, new[rule_id], _minus(_minus(late, before_too), was), NEWLY_PENDING)
            )
        if rule_id in old:
            parts.append(_described(before, old[rule_id], _minus(was, is_now), NO_LONGER))
    return pl.concat(part for part in parts if part.height or part is parts[0])


def _described(judgement: Judgement, rule: Rule, rows: pl.Series, change: str) -> pl.DataFrame:
    return (
        subjects_of(judgement.context, TABLES[rule.table], rows, ("kind",))
        .with_columns(pl.col("kind").cast(pl.String))
        .with_columns(
            change=pl.lit(change),
            rule=pl.lit(rule.id),
            title=pl.lit(rule.title),
            severity=pl.lit(rule.severity.word),
        )
        .select(COLUMNS)
    )


def findings_in_breach(judgement: Judgement) -> int:
    """How many breaches there are, of accounts, of what is theirs, of people and of systems' settings."""
    return sum(len(judgement.rows(rule, Verdict.BREACH)) for rule in judgement.rulebook.rules)


def accounts_in_breach(judgement: Judgement) -> int:
    """How many accounts are in breach of any rule."""
    parts = [pl.Series([], dtype=pl.UInt32)]
    for rule in judgement.rulebook.rules:
        parts.append(judgement.accounts(rule, judgement.rows(rule, Verdict.BREACH)).cast(pl.UInt32))
    return pl.concat(parts).drop_nulls().n_unique()


# limits that are swept


@dataclass(frozen=True, slots=True)
class SetLimit:
    """Which limit is set: that of everybody, or with `population`, a term, that of those it is true of."""

    name: str
    population: str = ""

    @property
    def shown(self) -> str:
        """As it is written: `password-age`, `password-age[contractor]`."""
        return f"{self.name}[{self.population}]" if self.population else self.name

    def of(self, book: Rulebook) -> Limit:
        """The limit as a book has it; for a population that has none of its own, that of everybody."""
        return dict(book.populations.get(self.name, ())).get(self.population, book.limits[self.name])


def read_limit_name(written: str) -> SetLimit | None:
    """Read `limit.password-age` or `limit.password-age[contractor]`; None if it is not written so."""
    match = _LIMIT_NAME.fullmatch(written)
    return SetLimit(match["name"], match["population"] or "") if match else None


_LIMIT_NAME = re.compile(r"limit\.(?P<name>[^\[\]=]+)(?:\[(?P<population>[^\[\]=]+)\])?")


@dataclass(frozen=True)
class Sweep:
    """A limit, and the values it is to be tried with, as they are written in a rulebook."""

    limit: SetLimit
    values: tuple[str | int | float, ...]


MOST_STEPS = 200
USUAL_STEPS = 12


def read_sweep(written: str) -> Sweep | None:
    """Read `limit.password-age=30d..365d`, or with a step `=30d..365d/30d`; None if it is not written so."""
    name, _, stretch = written.partition("=")
    ends, _, step = stretch.partition("/")
    first, dots, last = ends.partition("..")
    limit = read_limit_name(name)
    if limit is None or not dots:
        return None
    spans = parse_span(first), parse_span(last)
    values: tuple[str | int | float, ...] | None
    if spans[0] is not None and spans[1] is not None:
        by = parse_span(step) if step else None
        values = None if step and by is None else _span_values(spans[0], spans[1], by)
    else:
        values = _number_values(first, last, step)
    return Sweep(limit, values) if values else None


def _span_values(first: timedelta, last: timedelta, step: timedelta | None) -> tuple[str, ...] | None:
    if last <= first:
        return None
    even = (last - first) / USUAL_STEPS
    day = timedelta(days=1)
    if step is None:
        step = max(day, even // day * day) if last - first >= USUAL_STEPS * day else even
    if not step or (last - first) / step > MOST_STEPS:
        return None
    bounds, value = [], first
    while value < last:
        bounds.append(value)
        value += step
    microsecond = timedelta(microseconds=1)
    return tuple(
        f"{figure // microsecond}us" if figure % day else f"{figure // day}d" for figure in [*bounds, last]
    )


def _number_values(first: str, last: str, step: str) -> tuple[int, ...] | None:
    if not (first.isdigit() and last.isdigit() and (not step or step.isdigit())):
        return None
    low, high = int(first), int(last)
    by = int(step) if step else max(1, (high - low) // USUAL_STEPS)
    if high <= low or not by or (high - low) // by > MOST_STEPS:
        return None
    return (*range(low, high, by), high)


def overlay(title: str, books: Sequence[str], settings: Mapping[SetLimit, str]) -> str:
    """The text of a book that includes others and sets limits; values as in TOML, or plain like `90d`."""
    document = tomlkit.document()
    document.add("title", tomlkit.item(title))
    document.add("include", tomlkit.item(list(books)))
    limits = tomlkit.table()
    own: dict[str, tomlkit.items.Table] = {}
    for limit, value in settings.items():
        table = own.setdefault(limit.population, tomlkit.table()) if limit.population else limits
        table.add(limit.name, _toml_value(value))
    if own:
        populations = tomlkit.table(is_super_table=True)
        for population, table in own.items():
            populations.add(population, table)
        limits.add("for", populations)
    document.add("limits", limits)
    return tomlkit.dumps(document)


def _toml_value(written: str) -> Any:
    """A value as TOML reads it; what is no TOML, like `90d`, is a text."""
    try:
        return tomllib.loads(f"x = {written}")["x"] if "\n" not in written else written
    except tomllib.TOMLDecodeError:
        return written
