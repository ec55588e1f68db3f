"""Works out expressions over the evidence, columns at a time.

An expression may ask about rows of other tables, and those may ask about their account again.
Each such hop is a stage: the answers of one stage are columns when the next one runs. All
questions about one table in a stage share one grouping.
"""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime
from zoneinfo import ZoneInfo

import polars as pl

from keymallet.core import facts
from keymallet.core.evidence import ROW, Evidence, empty_frame
from keymallet.core.language import typed
from keymallet.core.language.lower import Lowering
from keymallet.core.language.typed import Typed

FALSE, UNKNOWN, TRUE = 0, 1, 2
"""How Kleene's values are coded while rows are grouped: `some` is then their maximum, `every` the minimum."""


def columns_used(expressions: Iterable[tuple[str, Typed]]) -> dict[str, set[str]]:
    """The facts that expressions rest on, by table."""
    used: dict[str, set[str]] = {}
    for table, expression in expressions:
        used.setdefault(table, set())
        for node in expression.walk():
            if isinstance(node, typed.Fact):
                used.setdefault(node.table, set()).add(node.column.name)
            elif isinstance(node, typed.Ask):
                used.setdefault(node.table, set())
    return used


class Workspace:
    """The frames of one judging, growing by the answers that expressions need."""

    def __init__(self, evidence: Evidence, at: datetime, clock: ZoneInfo) -> None:
        tables = {table.name: evidence.tables.get(table.name) for table in facts.TABLES.values()}
        frames = {
            name: empty_frame(facts.TABLES[name]) if frame is None else frame
            for name, frame in tables.items()
        }
        self.evidence = Evidence(frames, evidence.supply, evidence.read_at)
        self.at = at
        self.clock = clock
        self.frames = dict(frames)
        self.placed: dict[Typed, str] = {}
        self.lowering = Lowering(self.evidence, at, clock, self.placed)

    def work_out(self, table: str, expressions: list[Typed]) -> list[pl.Series]:
        """Work out expressions on every row of a table, in the order given."""
        self.prepare((table, expression) for expression in expressions)
        return self.select(table, [self.lowering.lower(expression) for expression in expressions])

    def prepare(self, expressions: Iterable[tuple[str, Typed]]) -> None:
        """Work out what the expressions need from other tables, stage by stage."""
        stages: dict[int, dict[Typed, None]] = {}
        for _, expression in expressions:
            _stage(expression, stages)
        for stage in sorted(stages):
            hops = [node for node in stages[stage] if node not in self.placed]
            self._answer([node for node in hops if isinstance(node, typed.Ask)])
            self._bring([node for node in hops if isinstance(node, typed.OfAccount)])

    def select(self, table: str, expressions: list[pl.Expr]) -> list[pl.Series]:
        """Work out lowered expressions on every row of a table."""
        names = [f"={number}" for number in range(len(expressions))]
        named = [expression.alias(name) for expression, name in zip(expressions, names, strict=True)]
        # with_columns, not select: an expression without any column still has a value for each row.
        frame = self.frames[table].lazy().with_columns(named).select(names).collect()
        return frame.get_columns()

    def _place(self, table: str, nodes: list[Typed], answers: list[pl.Series]) -> None:
        named = []
        for node, answer in zip(nodes, answers, strict=True):
            self.placed[node] = f"?{len(self.placed)}"
            named.append(answer.alias(self.placed[node]))
        self.frames[table] = self.frames[table].with_columns(named)

    def _bring(self, nodes: list[typed.OfAccount]) -> None:
        """Put something about the account beside each row that belongs to it."""
        for table in dict.fromkeys(node.table for node in nodes):
            here = [node for node in nodes if node.table == table]
            rows = self.frames[table][ROW]
            answers = self.select(facts.ACCOUNT.name, [self.lowering.lower(node.body) for node in here])
            self._place(table, list(here), [answer.gather(rows) for answer in answers])

    def _answer(self, asked: list[typed.Ask]) -> None:
        """Answer questions about rows, for every account at once."""
        for table in dict.fromkeys(ask.table for ask in asked):
            here = [ask for ask in asked if ask.table == table]
            conditions = [
                pl.lit(True) if ask.condition is None else self.lowering.lower(ask.condition) for ask in here
            ]
            truths = self.select(table, conditions)
            codes = [_coded(truth).alias(str(number)) for number, truth in enumerate(truths)]
            grouped = (
                pl.DataFrame([self.frames[table][ROW], *codes])
                .lazy()
                .filter(pl.col(ROW).is_not_null())
                .group_by(ROW)
                .agg(_aggregates(here))
                .collect()
            )
            accounts = self.frames[facts.ACCOUNT.name]
            per_account = accounts.select(pl.int_range(pl.len(), dtype=pl.UInt32).alias(ROW)).join(
                grouped, on=ROW, how="left", maintain_order="left"
            )
            supplied = self.lowering.is_source_of(facts.ACCOUNT.name, self.evidence.suppliers(table))
            answers = accounts.select("source").hstack(per_account).lazy()
            answered = answers.with_columns(
                pl.when(supplied).then(_summed_up(ask, number)).alias(f"a{number}")
                for number, ask in enumerate(here)
            )
            frame = answered.select([f"a{number}" for number in range(len(here))]).collect()
            self._place(facts.ACCOUNT.name, list(here), frame.get_columns())


def _stage(node: Typed, stages: dict[int, dict[Typed, None]]) -> int:
    """Enter every hop to another table below `node` under its stage; return the highest."""
    below = max((_stage(part, stages) for part in node.parts), default=0)
    if not isinstance(node, typed.OfAccount | typed.Ask):
        return below
    stages.setdefault(below + 1, {})[node] = None
    return below + 1


def _coded(truth: pl.Series) -> pl.Series:
    return truth.cast(pl.UInt8).fill_null(UNKNOWN) + truth.fill_null(False).cast(pl.UInt8)


def _aggregates(asked: list[typed.Ask]) -> list[pl.Expr]:
    aggregates: list[pl.Expr] = []
    for number, ask in enumerate(asked):
        code = pl.col(str(number))
        match ask.question:
            case "some" | "no":
                aggregates.append(code.max().alias(f"{number}"))
            case "every":
                aggregates.append(code.min().alias(f"{number}"))
            case _:
                aggregates.append((code == TRUE).sum().cast(pl.Int64).alias(f"{number}"))
                aggregates.append((code == UNKNOWN).any().alias(f"{number}unsure"))
    return aggregates


def _summed_up(ask: typed.Ask, number: int) -> pl.Expr:
    """From the grouped codes of an account's rows to the answer; an account without rows has null there."""
    code = pl.col(f"{number}")
    match ask.question:
        case "some":
            return _decoded(code.fill_null(FALSE))
        case "no":
            return ~_decoded(code.fill_null(FALSE))
        case "every":
            return _decoded(code.fill_null(TRUE))
        case _:
            # Any row of which it is not known whether it counts makes the number unknown.
            return pl.when(~pl.col(f"{number}unsure").fill_null(False)).then(code.fill_null(0))


def _decoded(code: pl.Expr) -> pl.Expr:
    return pl.when(code != UNKNOWN).then(code == TRUE)
