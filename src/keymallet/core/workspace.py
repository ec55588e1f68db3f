"""Works out expressions over the evidence, columns at a time.

An expression may ask about rows of other tables, and those may ask about their account again.
Each such hop is a stage: the answers of one stage are columns when the next one runs.
"""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime
from zoneinfo import ZoneInfo

import polars as pl

from keymallet.core import facts
from keymallet.core.evidence import NOTHING_KNOWN, ROW, UNREAD, Evidence, empty_frame
from keymallet.core.language import typed
from keymallet.core.language.lower import Lowering
from keymallet.core.language.typed import Typed


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
                self._is_a_row(table) if ask.condition is None else self.lowering.lower(ask.condition)
                for ask in here
            ]
            truths = self.select(table, conditions)
            rows = self.frames[table][ROW]
            accounts = self.frames[facts.ACCOUNT.name].height
            answers = [_answered(ask, truth, rows, accounts) for ask, truth in zip(here, truths, strict=True)]
            self._place(facts.ACCOUNT.name, list(here), self._where_supplied(table, answers))

    def _is_a_row(self, table: str) -> pl.Expr:
        """True; unknown on a row that stands for not knowing of any."""
        if UNREAD not in self.frames[table].columns:
            return pl.lit(True)
        return pl.when(~pl.col(UNREAD).list.contains(pl.lit(NOTHING_KNOWN)).fill_null(False)).then(True)

    def _where_supplied(self, table: str, answers: list[pl.Series]) -> list[pl.Series]:
        """No rows mean something only where the account's source supplies the table at all."""
        suppliers = self.evidence.suppliers(table)
        if len(suppliers) == len(self.evidence.sources):
            return answers
        supplied = self.lowering.is_source_of(facts.ACCOUNT.name, suppliers)
        named = [answer.alias(f"{number}") for number, answer in enumerate(answers)]
        frame = self.frames[facts.ACCOUNT.name].select("source").hstack(named)
        return frame.select(
            pl.when(supplied).then(pl.col(answer.name)).name.keep() for answer in named
        ).get_columns()


def _answered(ask: typed.Ask, truth: pl.Series, rows: pl.Series, accounts: int) -> pl.Series:
    """The answer for every account, from the truth on each row and the account each row belongs to.

    Marking accounts takes a single pass over the rows; grouping them would take many times as long.
    """
    unsure = _marked(rows.filter(truth.is_null()), accounts) if truth.null_count() else None
    if ask.question == "count":
        # Any row of which it is not known whether it counts makes the number unknown.
        number = _counted(rows.filter(truth.fill_null(False)), accounts)
        return number if unsure is None else _where(~unsure, number)
    if ask.question == "every":
        missed = _marked(rows.filter(~truth.fill_null(True)), accounts)
        return ~missed if unsure is None else _where(missed | ~unsure, ~missed)
    hit = _marked(rows.filter(truth.fill_null(False)), accounts)
    found = hit if unsure is None else _where(hit | ~unsure, hit)
    return ~found if ask.question == "no" else found


def _marked(rows: pl.Series, accounts: int) -> pl.Series:
    return pl.repeat(False, accounts, dtype=pl.Boolean, eager=True).scatter(rows.drop_nulls(), True)


def _counted(rows: pl.Series, accounts: int) -> pl.Series:
    counts = rows.drop_nulls().value_counts(name="rows")
    return pl.zeros(accounts, dtype=pl.Int64, eager=True).scatter(counts[ROW], counts["rows"].cast(pl.Int64))


def _where(condition: pl.Series, values: pl.Series) -> pl.Series:
    return pl.DataFrame({"if": condition, "then": values}).select(pl.when("if").then("then")).to_series()


def _stage(node: Typed, stages: dict[int, dict[Typed, None]]) -> int:
    """Enter every hop to another table below `node` under its stage; return the highest."""
    below = max((_stage(part, stages) for part in node.parts), default=0)
    if not isinstance(node, typed.OfAccount | typed.Ask):
        return below
    stages.setdefault(below + 1, {})[node] = None
    return below + 1
