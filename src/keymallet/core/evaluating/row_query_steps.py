"""Answers to questions about rows, over time: counted up from the steps of the condition on each row."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import polars as pl

from keymallet.core.evaluating.context import EvaluationContext
from keymallet.core.evaluating.elsewhere import OPEN, either, only_turns
from keymallet.core.evaluating.steps import END, ROW, VALUE, no_steps, only_changes
from keymallet.core.facts.declaration import ACCOUNT, PERSON, TABLES
from keymallet.core.facts.evidence import INSTANT, row_column
from keymallet.core.language import typed
from keymallet.core.language.lowering import AT
from keymallet.core.language.typed import Typed

Values = Callable[[str, Typed, "pl.Series | None"], pl.DataFrame]
"""The steps of an expression on these rows of a table; None for all."""


@dataclass(frozen=True)
class RowQuerySteps:
    """Answers questions; `start` is the start of the stretch that is looked at, `end` its end."""

    context: EvaluationContext
    start: pl.Expr
    end: pl.Expr
    backwards: bool
    values: Values

    def answered(self, query: typed.RowQuery, table: str, rows: pl.Series | None) -> pl.DataFrame:
        """The steps of a question's answer, for these rows of the owners' table (None: all)."""
        assert query.condition is not None, "what asks for nothing does not change"
        links = _Links(self.context, query)
        steps = self.values(query.table, query.condition, links.rows_of(rows))
        said = _said(steps)
        owned = said.join(links.owned, on=ROW, how="inner")
        perhaps = said.join(links.perhaps, on=ROW, how="inner")
        owners = pl.concat([owned["owner"], perhaps["owner"]]).unique()
        anybodys = said.join(links.anybodys, on=ROW, how="semi")
        elsewhere = self._elsewhere(query)
        if anybodys.height or (elsewhere is not None and elsewhere.height > 1):
            everybody = pl.int_range(self.context.frames[table].height, dtype=pl.UInt32, eager=True)
            owners = everybody if rows is None else rows.cast(pl.UInt32)
        elif rows is not None:
            owners = owners.filter(owners.is_in(rows.implode()))
        if not len(owners):
            return no_steps()
        if query.column is not None:
            return self._greatest_of(query, owners, steps, links)
        counted = [
            owned.select("owner", AT, "before", "after"),
            self._standing(query, links.owned, owners, steps),
        ]
        counted += [
            _as_possible_rows(query, entries)
            for entries in (perhaps, self._standing(query, links.perhaps, owners, steps))
        ]
        counted += self._of_rows_that_may_be_anybodys(query, links, anybodys, owners, steps, elsewhere)
        return self._counted(query, table, pl.concat(counted, how="diagonal_relaxed"), owners)

    def _standing(
        self, query: typed.RowQuery, links: pl.DataFrame, owners: pl.Series, steps: pl.DataFrame
    ) -> pl.DataFrame:
        """What the rows that do not change contribute to these owners, from the start on."""
        mine = links.filter(pl.col("owner").is_in(owners.implode())).join(steps, on=ROW, how="anti")
        return mine.select("owner").with_columns(
            self.start.alias(AT),
            pl.lit(None, dtype=pl.Int8).alias("before"),
            _code_of(self._truth(query, mine[ROW])).alias("after"),
        )

    def _truth(self, query: typed.RowQuery, rows: pl.Series) -> pl.Series:
        """The truth of the condition on rows on which it does not change."""
        assert query.condition is not None
        frame = self.context.rows_for(query.table, rows, [query.condition])
        lowered = self.context.lowering.lower(query.condition).alias("=")
        return frame.lazy().with_columns(lowered).select("=").collect().to_series()

    def open_by_anybodys(self, query: typed.RowQuery) -> pl.DataFrame | None:
        """AT and OPEN: when rows that may be any owner's leave the answer open; None where there are none."""
        assert query.condition is not None, "what asks for nothing does not change"
        links = _Links(self.context, query)
        if not links.anybodys.height:
            return None
        rows = links.anybodys[ROW]
        steps = self.values(query.table, query.condition, rows)
        said = _said(steps).join(links.anybodys, on=ROW, how="semi")
        return self._open(query, links, said, steps)

    def _elsewhere(self, query: typed.RowQuery) -> pl.DataFrame | None:
        """The same of all shards together, cut to the stretch; None where there are no others."""
        there = self.context.elsewhere.anybodys.get(query) if self.context.elsewhere else None
        if there is None:
            return None
        told = there.past if self.backwards else there.future
        return None if told is None else told.filter(pl.col(AT) <= self.end)

    def _of_rows_that_may_be_anybodys(
        self,
        query: typed.RowQuery,
        links: _Links,
        moving: pl.DataFrame,
        owners: pl.Series,
        steps: pl.DataFrame,
        elsewhere: pl.DataFrame | None,
    ) -> list[pl.DataFrame]:
        """What rows that may be any owner's contribute to the answer of each of them.

        While one of them may count, nobody's answer is known; else they count for nobody. Gives at most
        one frame of `owner`, AT, `before` and `after` (codes of truth).
        """
        parts = [self._open(query, links, moving, steps)] if links.anybodys.height else []
        parts += [] if elsewhere is None else [elsewhere]
        if not parts:
            return []
        code = pl.when(OPEN).then(pl.lit(_UNKNOWN)).otherwise(pl.lit(_indifferent(query)))
        entries = either(parts).select(AT, code.cast(pl.Int8).alias("after"))
        entries = entries.with_columns(before=pl.col("after").shift())
        return [owners.alias("owner").to_frame().join(entries, how="cross")]

    def _open(
        self, query: typed.RowQuery, links: _Links, moving: pl.DataFrame, steps: pl.DataFrame
    ) -> pl.DataFrame:
        """AT and OPEN: from when on, and until when, one of the rows that may be any owner's may count."""
        one = pl.lit(0, dtype=pl.UInt32).alias("owner")
        still = links.anybodys.with_columns(one)
        alone = pl.Series([0], dtype=pl.UInt32)
        parts = [
            _as_possible_rows(query, moving.with_columns(one)),
            _as_possible_rows(query, self._standing(query, still.select(ROW, "owner"), alone, steps)),
        ]
        sums = _sums(pl.concat(parts, how="diagonal_relaxed"))
        return only_turns(sums.select(AT, (pl.col("unknown") > 0).alias(OPEN)))

    def _counted(
        self, query: typed.RowQuery, table: str, entries: pl.DataFrame, owners: pl.Series
    ) -> pl.DataFrame:
        sums = _sums(entries.filter(pl.col("owner").is_in(owners.implode())))
        answers = sums.select(pl.col("owner").cast(pl.UInt32).alias(ROW), AT, _answer(query).alias(VALUE))
        return only_changes(self._where_supplied(query, table, answers))

    def _where_supplied(self, query: typed.RowQuery, table: str, answers: pl.DataFrame) -> pl.DataFrame:
        """Where the source does not supply the rows at all, the answer is not known at any time."""
        if table != ACCOUNT.name:
            return answers
        suppliers = self.context.evidence.suppliers(query.table)
        supplied = self.context.rows_of(table, answers[ROW], ["source"]).select(
            self.context.lowering.is_source_of(table, suppliers).alias("=")
        )
        if supplied.height != answers.height:
            return answers if supplied["="][0] else answers.clear()
        return answers.filter(supplied["="])

    def _greatest_of(
        self, query: typed.RowQuery, owners: pl.Series, steps: pl.DataFrame, links: _Links
    ) -> pl.DataFrame:
        """The steps of `latest` and `earliest`: at each change, over the rows that count at that time."""
        assert query.column is not None
        until = pl.when(pl.col(ROW) == pl.col(ROW).shift(-1)).then(pl.col(AT).shift(-1))
        end = pl.lit(END, dtype=INSTANT)
        spans = steps.select(ROW, AT, until.fill_null(end).alias("to"), VALUE)
        mine = links.owned.filter(pl.col("owner").is_in(owners.implode()))
        still = mine.join(steps, on=ROW, how="anti").select(ROW)
        standing = still.with_columns(
            self.start.alias(AT), end.alias("to"), self._truth(query, still[ROW]).alias(VALUE)
        )
        counting = pl.concat([spans, standing]).filter(pl.col(VALUE).fill_null(True)).join(mine, on=ROW)
        figures = self.context.frames[query.table][query.column.name].gather(counting[ROW])
        counting = counting.with_columns(figures.alias("figure"))
        # The greatest can only change when a row begins or ceases to count: those are the moments to look at.
        moments = links.owned.join(steps, on=ROW).select("owner", AT).unique()
        extremes = moments.rename({AT: "moment"}).join(counting, on="owner", how="left")
        counts = (pl.col(AT) <= pl.col("moment")) & (pl.col("to") > pl.col("moment"))
        best = pl.col("figure").filter(counts & pl.col(VALUE))
        best = best.max() if query.question == "latest" else best.min()
        unsure = (counts & pl.col(VALUE).is_null()).any()
        answers = extremes.group_by("owner", "moment").agg(pl.when(~unsure).then(best).alias(VALUE))
        named = answers.select(pl.col("owner").alias(ROW), pl.col("moment").alias(AT), VALUE).sort(ROW, AT)
        return only_changes(self._where_supplied(query, TABLES[query.table].owner, named))


class _Links:
    """Which rows belong to which owners, surely or perhaps."""

    def __init__(self, context: EvaluationContext, query: typed.RowQuery) -> None:
        table = TABLES[query.table]
        owners = context.frames[table.name][row_column(table)]
        self.owned = pl.DataFrame({"owner": owners}).with_row_index(ROW).drop_nulls()
        nobody = pl.DataFrame(schema={ROW: pl.UInt32, "owner": pl.UInt32})
        self.perhaps, self.anybodys = nobody, nobody.select(ROW)
        if table.owner == PERSON.name:
            maybe = context.may_belong()
            self.perhaps = maybe.named.select(pl.col("place").alias(ROW), pl.col("row").alias("owner"))
            self.anybodys = maybe.anybodys.alias(ROW).to_frame()

    def rows_of(self, owners: pl.Series | None) -> pl.Series | None:
        """The rows that belong, or may belong, to these owners; None: all."""
        if owners is None:
            return None
        of = pl.col("owner").is_in(owners.implode())
        parts = [self.owned.filter(of)[ROW], self.perhaps.filter(of)[ROW], self.anybodys[ROW]]
        return pl.concat(parts).unique().sort()


def _said(steps: pl.DataFrame) -> pl.DataFrame:
    """At each step the code of truth `before` it, null for the first of a row, and `after` it."""
    return steps.with_columns(
        before=pl.when(pl.col(ROW) == pl.col(ROW).shift()).then(_code(pl.col(VALUE)).shift()),
        after=_code(pl.col(VALUE)),
    ).drop(VALUE)


_FALSE, _TRUE, _UNKNOWN = 0, 1, 2


def _code(value: pl.Expr) -> pl.Expr:
    return value.cast(pl.Int8).fill_null(_UNKNOWN)


def _code_of(values: pl.Series) -> pl.Series:
    return values.cast(pl.Int8).fill_null(_UNKNOWN)


def _indifferent(query: typed.RowQuery) -> int:
    """The truth of a row that leaves the answer as it is, whosever it is.

    A row that does not pass changes nothing for `some`, `no` and `count`; for `every`, one that passes.
    """
    return _TRUE if query.question == "every" else _FALSE


def _as_possible_rows(query: typed.RowQuery, entries: pl.DataFrame) -> pl.DataFrame:
    """The entries of rows of which it is not known whether they are the owner's.

    Entries are `owner`, AT, `before` and `after`. Each code of truth becomes unknown, for the row may or
    may not count; but where it would change nothing even as the owner's own, it stays as it is.
    """
    indifferent = _indifferent(query)

    def opened(name: str) -> pl.Expr:
        code = pl.when(pl.col(name) == indifferent).then(pl.lit(indifferent)).otherwise(pl.lit(_UNKNOWN))
        return pl.when(pl.col(name).is_not_null()).then(code.cast(pl.Int8)).alias(name)

    return entries.select("owner", AT, opened("before"), opened("after"))


def _sums(entries: pl.DataFrame) -> pl.DataFrame:
    """How many rows are true, unknown and false for each owner, from each instant on."""
    codes = {"true": _TRUE, "unknown": _UNKNOWN, "false": _FALSE}
    changes = [
        (
            (pl.col("after") == code).cast(pl.Int64)
            - (pl.col("before") == code).fill_null(False).cast(pl.Int64)
        )
        .sum()
        .alias(name)
        for name, code in codes.items()
    ]
    # Each entry adds one to what it becomes and takes one from what it was: summed up, the counts over time.
    grouped = entries.group_by("owner", AT).agg(changes).sort("owner", AT)
    return grouped.with_columns(pl.col(list(codes)).cum_sum().over("owner"))


def _answer(query: typed.RowQuery) -> pl.Expr:
    """The answer to a question, from how many rows are true, unknown and false."""
    if query.question == "fewest":
        return pl.col("true")
    if query.question == "most" and TABLES[query.table].owner == ACCOUNT.name:
        return pl.col("true") + pl.col("unknown")
    if query.question in ("count", "most"):
        return pl.when(pl.col("unknown") == 0).then(pl.col("true"))
    decided = "false" if query.question == "every" else "true"
    outcome = query.question == "some"
    return (
        pl.when(pl.col(decided) > 0)
        .then(pl.lit(outcome))
        .when(pl.col("unknown") == 0)
        .then(pl.lit(not outcome))
    )
