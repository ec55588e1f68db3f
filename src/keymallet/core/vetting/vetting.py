"""Planned accounts judged: by the rules on what is planned, and by those that could judge them later."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from datetime import datetime
from enum import IntEnum
from zoneinfo import ZoneInfo

import polars as pl

from keymallet.core.explaining.findings import COLUMNS, Alike, alike, describe
from keymallet.core.facts.declaration import ACCOUNT, PERSON, PLANNED, TABLES
from keymallet.core.facts.evidence import Evidence
from keymallet.core.facts.reading import Refusal
from keymallet.core.judging.judge import Judgement, RuleCount, judge
from keymallet.core.judging.verdicts import Verdict
from keymallet.core.language import typed
from keymallet.core.rulebook.model import Demand, Rule, Rulebook, Severity
from keymallet.core.rulebook.register import Register
from keymallet.core.vetting.batch import Batch
from keymallet.core.vetting.evidence import FIRST_DAY
from keymallet.core.vetting.rests_on import cells_of

LINE, CELLS = "line", "cells"
"""Columns of what vetting finds: the line of the row, and the columns of the file that it is about."""

FOUND_COLUMNS = (LINE, CELLS, *COLUMNS)
MOST_FIRST_DAYS = 20
"""So many first days are judged one by one; where rows begin on more, each is judged at the next of these."""


class Result(IntEnum):
    """What is to be done with a planned account; a higher number is worse."""

    READY = 1
    CANNOT_TELL = 2
    FIX_FIRST = 3

    @property
    def words(self) -> str:
        """The result as people read it."""
        return {1: "ready", 2: "cannot tell", 3: "fix first"}[self]


@dataclass
class Vetted:
    """A batch, judged.

    `results` has the Result of each row. `found` is what is wrong with rows or cannot be told of them, with
    FOUND_COLUMNS, in the order of the rows; `found_rows` has the row of each. `open` are the rules that could
    judge nobody of the batch, each with the facts it rests on that nothing tells. `first_days` is on how many
    days rows begin: beyond MOST_FIRST_DAYS some are judged on a later one.
    """

    batch: Batch
    at: datetime
    results: pl.Series
    found: pl.DataFrame
    found_rows: pl.Series
    counts: list[RuleCount]
    open: Mapping[str, list[str]] = field(default_factory=dict)
    refused: list[Refusal] = field(default_factory=list)
    first_days: int = 0

    def number(self, result: Result) -> int:
        """How many rows have this result; records that could not be read are to be fixed first."""
        own = {each.line for each in self.refused if each.file == self.batch.file}
        unread = len(own - set(self.batch.lines)) if result is Result.FIX_FIRST else 0
        return int((self.results == int(result)).sum()) + unread

    @property
    def has_rules_on_planned(self) -> bool:
        """Whether the rulebook has any rule on planned accounts: without, hardly anything is looked at."""
        return any(count.rule.table == PLANNED.name for count in self.counts)

    @property
    def open_on_planned(self) -> bool:
        """Whether a rule on planned accounts could judge nobody of the batch."""
        return any(count.rule.id in self.open and count.rule.table == PLANNED.name for count in self.counts)

    @property
    def rows(self) -> int:
        """All records of the file."""
        return sum(map(self.number, Result))

    def worst(self, severity: Severity) -> bool:
        """Whether something at least this grave is wrong with a row, or a record could not be read."""
        grave = [word.word for word in Severity if word >= severity]
        broken = self.found.filter(
            (pl.col("verdict").cast(pl.String) == _FAULTY) & pl.col("severity").is_in(grave)
        )
        return bool(broken.height or self.refused)


_FAULTY = "breach"
"""The verdict on what is to be fixed first. What a rule gives time for need not be there on the first day."""


def rules_for(book: Rulebook) -> Rulebook:
    """The rules that could judge accounts on their first day: on accounts, and on what belongs to them."""

    def can_judge(demand: Demand) -> bool:
        table = TABLES[demand.table]
        return isinstance(demand, Rule) and (table is ACCOUNT or table.of_account)

    return book.only(can_judge)


def vet(
    batch: Batch,
    evidence: Evidence,
    book: Rulebook,
    register: Register | None,
    clock: ZoneInfo,
    at: datetime,
) -> Vetted:
    """Judge each row as planned at `at`, and as it will be when its account begins where that is later.

    What cannot be told of any row of the batch, for want of a column, is told once; what cannot be told of
    one, because its cell could not be read or is empty, makes that row one that cannot be told.
    """
    height = batch.accounts.height
    results = pl.Series([int(Result.READY)], dtype=pl.Int8).new_from_index(0, height)
    parts: list[pl.DataFrame] = []
    counted: dict[str, RuleCount] = {}
    open_rules: dict[str, list[str]] = {}
    everything = pl.int_range(height, dtype=pl.UInt32, eager=True)
    on_planned = book.only(lambda demand: demand.table == PLANNED.name)
    on_first_day = rules_for(book.of_what_exists)
    occasions = [(on_planned, at, everything)]
    occasions += [(on_first_day, day, rows) for day, rows in _by_first_day(evidence, height, at)]
    for rules, instant, rows in occasions:
        whole = len(rows) == evidence.tables[ACCOUNT.name].height
        own = evidence if whole else evidence.only(rows)
        judgement = judge(own, rules, instant, clock, register)
        for count in judgement.counts():
            counted[count.rule.id] = _added(counted.get(count.rule.id), count)
        alike_ones, lacking = _found(judgement, batch)
        open_rules |= lacking
        parts += _described(judgement, alike_ones, rows, batch)
    found = pl.concat(parts, how="vertical") if parts else _nothing()
    # A right, say, that could not be read: the row is not what it should be.
    unread = {each.line for each in batch.refused if each.file == batch.file}
    faulty = [place for place, line in enumerate(batch.lines) if line in unread]
    half_read = {each.line for each in batch.unreadable if each.file == batch.file}
    doubtful = [place for place, line in enumerate(batch.lines) if line in half_read]
    results = results.scatter(doubtful if on_planned.rules else everything, int(Result.CANNOT_TELL))
    results = _results(results, found).scatter(faulty, int(Result.FIX_FIRST))
    found = found.sort(ROW, maintain_order=True)
    return Vetted(
        batch,
        at,
        results,
        found.select(FOUND_COLUMNS),
        found[ROW],
        list(counted.values()),
        open_rules,
        batch.refused,
        evidence.tables[ACCOUNT.name].head(height)[FIRST_DAY].n_unique(),
    )


ROW = "row of the batch"


def _by_first_day(evidence: Evidence, height: int, at: datetime) -> Iterator[tuple[datetime, pl.Series]]:
    """The rows of the batch by the instant they are judged at."""
    accounts = evidence.tables[ACCOUNT.name].head(height)
    days = accounts[FIRST_DAY] if height else pl.Series([], dtype=pl.Datetime("us", "UTC"))
    rows = pl.DataFrame({"day": days}).with_row_index("row")
    distinct = days.unique().sort()
    if len(distinct) > MOST_FIRST_DAYS:
        # Each of the days that stand for others is the last of them: by then all of these have begun.
        step = -(-len(distinct) // MOST_FIRST_DAYS)
        last = [distinct[min(place + step, len(distinct)) - 1] for place in range(0, len(distinct), step)]
        stands = pl.DataFrame({"stand": pl.Series(last, dtype=days.dtype)}).sort("stand")
        rows = rows.sort("day").join_asof(stands, left_on="day", right_on="stand", strategy="forward")
        rows = rows.with_columns(day=pl.col("stand")).sort("row")
    for (day,), part in rows.partition_by("day", as_dict=True, maintain_order=True).items():
        assert isinstance(day, datetime)
        yield day, part["row"]


def _added(before: RuleCount | None, count: RuleCount) -> RuleCount:
    if before is None:
        return count
    return RuleCount(
        count.rule,
        before.met + count.met,
        before.breach + count.breach,
        before.unproven + count.unproven,
        before.pending + count.pending,
        before.exempt + count.exempt,
    )


def _found(judgement: Judgement, batch: Batch) -> tuple[list[Alike], dict[str, list[str]]]:
    """What is wrong with rows, or open for some of them; and the rules that nobody could be judged by."""
    found, lacking = [], {}
    for each in alike(judgement, (Verdict.BREACH, Verdict.UNPROVEN)):
        assert isinstance(each.demand, Rule) and each.rows is not None
        missing = _never_told(judgement, each.demand, batch) if each.verdict is Verdict.UNPROVEN else {}
        # What the file itself could say and does not leaves a rule on planned accounts open for each of them.
        if missing and not (each.demand.table == PLANNED.name and any(missing.values())):
            lacking[each.demand.id] = list(missing)
        else:
            found.append(each)
    return found, lacking


def _never_told(judgement: Judgement, rule: Rule, batch: Batch) -> dict[str, bool]:
    """The facts that a rule rests on and nothing tells of any row, and whether the file could tell them."""
    missing: dict[str, bool] = {}
    evidence, target = judgement.evidence, batch.target.source
    for expression in rule.expressions:
        for node in expression.walk():
            if not isinstance(node, typed.Fact) or node.column.definition:
                continue
            table, name = TABLES[node.table], node.column.name
            suppliers = evidence.suppliers(node.table, name)
            is_told = bool(suppliers) if table is PERSON else target in suppliers
            if is_told or name in ("account", "source"):
                continue
            of_account = table is ACCOUNT or table.of_account
            missing[name if table is ACCOUNT else f"{table.name}.{name}"] = (
                of_account and not node.column.across
            )
    return missing


def _described(
    judgement: Judgement, found: list[Alike], rows: pl.Series, batch: Batch
) -> Iterator[pl.DataFrame]:
    """What is found, with the rows of the batch that it is about."""
    if not found:
        return
    own, cells = [], []
    for each in found:
        assert isinstance(each.demand, Rule) and each.rows is not None
        own.append(judgement.accounts(each.demand, each.rows))
        cells.append(cells_of(judgement.context.frames[each.demand.table], each.demand, each.rows, batch))
    places = rows.gather(pl.concat(own)).cast(pl.Int64)
    lines = pl.Series(batch.lines, dtype=pl.Int64).gather(places)
    named = (places.alias(ROW), lines.alias(LINE), pl.concat(cells).alias(CELLS))
    told_of = describe(judgement, found).with_columns(named)
    yield told_of.select(ROW, *FOUND_COLUMNS)


def _results(results: pl.Series, found: pl.DataFrame) -> pl.Series:
    faulty = pl.col("verdict").cast(pl.String) == _FAULTY
    for result, condition in ((Result.CANNOT_TELL, ~faulty), (Result.FIX_FIRST, faulty)):
        rows = found.filter(condition)[ROW].unique()
        results = results.scatter(rows, int(result))
    return results


def _nothing() -> pl.DataFrame:
    schema: dict[str, pl.DataType] = {name: pl.String() for name in COLUMNS}
    return pl.DataFrame(schema={ROW: pl.Int64(), LINE: pl.Int64(), CELLS: pl.List(pl.String), **schema})
