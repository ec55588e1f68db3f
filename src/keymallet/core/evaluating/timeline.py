"""How values change with time alone, over a stretch of time: exact, and columns at a time.

`Timeline.steps` gives, for the rows whose value changes in the stretch, each value and the instant
from which it holds. Candidates for a change come from the expression itself (`language.flips`); at
each of them the expression is judged, with the instant as a column, and what did not change is
dropped. Questions about rows of other tables are step functions themselves, counted up from the
steps of each row. Rows that do not change at all are not in the answer: their value is the one that
the context has.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from datetime import UTC, datetime, timedelta

import polars as pl

from keymallet.core.evaluating.context import EvaluationContext
from keymallet.core.evaluating.row_query_steps import RowQuerySteps
from keymallet.core.evaluating.steps import BEGINNING, END, ROW, VALUE, along, no_steps, only_changes, united
from keymallet.core.evaluating.time_breakpoints import Line, clock_lines, crossings, is_hop, local, moves
from keymallet.core.facts.evidence import INSTANT
from keymallet.core.facts.model import Kind
from keymallet.core.language import typed
from keymallet.core.language.lowering import AT, Lowering
from keymallet.core.language.typed import Typed

_HOUR = 3_600_000_000
_QUARTER = _HOUR // 4
_PATTERN_REPEATS = 8 * 24 * _HOUR
"""Hours and days of the week come round in a week; a day more, for clocks that are put forward or back."""


@dataclass(frozen=True)
class Stretch:
    """The instants after `start`, up to and including `end`."""

    start: datetime
    end: datetime

    def holds(self, microseconds: pl.Expr) -> pl.Expr:
        """Whether instants lie in it."""
        return (microseconds > _microseconds(self.start)) & (microseconds <= _microseconds(self.end))


def _microseconds(instant: datetime) -> int:
    return (instant - datetime(1970, 1, 1, tzinfo=UTC)) // timedelta(microseconds=1)


class Timeline:
    """Step functions of time over the frames of one context, from or up to the instant judged at."""

    def __init__(self, context: EvaluationContext, stretch: Stretch) -> None:
        backwards = stretch.end <= context.at
        self.context = context
        self.stretch = stretch
        self.backwards = backwards
        self.masked = backwards or context.lowering.masked
        own = context.lowering
        self.lowering = replace(own, at=None, masked=self.masked)
        self._raw = replace(own, masked=False)
        self._whole: dict[Typed, pl.DataFrame] = {}

    @classmethod
    def until_now(cls, context: EvaluationContext) -> Timeline:
        """Everything up to the instant judged at."""
        return cls(context, Stretch(BEGINNING, context.at))

    @classmethod
    def from_now(cls, context: EvaluationContext, end: datetime = END) -> Timeline:
        """Everything after the instant judged at, up to `end`."""
        return cls(context, Stretch(context.at, end))

    def moves(self, node: Typed) -> bool:
        """Whether the expression can change in the stretch."""
        return moves(node, self.masked)

    def steps(
        self,
        table: str,
        nodes: list[Typed],
        build: Callable[[Lowering], pl.Expr],
        rows: pl.Series | None = None,
        opening: pl.Series | None = None,
    ) -> pl.DataFrame:
        """The steps of what `build` makes of these expressions, on these rows of a table (None: all).

        Gives ROW, AT (the instant from which it holds) and VALUE, ordered by row and instant; the first
        entry of each row is at the start of the stretch. `opening` are the values of all rows there,
        where they are known already.
        """
        if not any(self.moves(node) for node in nodes):
            return no_steps()
        hops = dict.fromkeys(
            part for node in nodes for part in local(node) if is_hop(part) and self.moves(part)
        )
        stepped = {hop: self._of_hop(hop, table, rows) for hop in hops}
        candidates = self._candidates(table, nodes, stepped, rows)
        if not candidates:
            return no_steps()
        if not hops and len(candidates) == 1:
            return self._single_steps(table, nodes, build, candidates[0], opening)
        openings = pl.concat(part.select(ROW) for part in candidates).unique()
        # An instant that stands twice changes nothing the second time, and is dropped with what does not.
        points = pl.concat([openings.with_columns(self._start.alias(AT)), *candidates]).sort(ROW, AT)
        frame = self._frame(table, nodes, points, stepped)
        value = frame.with_columns(build(self.lowering).alias(VALUE))[VALUE]
        return only_changes(points.with_columns(value))

    def _single_steps(
        self,
        table: str,
        nodes: list[Typed],
        build: Callable[[Lowering], pl.Expr],
        when: pl.DataFrame,
        opening: pl.Series | None,
    ) -> pl.DataFrame:
        """The same where every row has a single candidate: nothing has to be put in order."""
        frame = self._frame(table, nodes, when, {})
        built = build(self.lowering).alias(VALUE)
        changed = frame.with_columns(built)[VALUE]
        if opening is None:
            before = frame.with_columns(self._start.alias(AT)).with_columns(built)[VALUE]
        else:
            before = opening.gather(when[ROW])
        differs = changed.ne_missing(before)
        kept = when.filter(differs)
        starts = kept.with_columns(self._start.alias(AT), before.filter(differs).alias(VALUE))
        both = pl.concat([starts, kept.with_columns(changed.filter(differs).alias(VALUE))])
        # `both` holds all openings, then all changes, in the same order of rows. The result has to hold each
        # row's opening followed by its change. Place 2k of it is opening k, place 2k + 1 is change k, which
        # stands `kept.height` places further on in `both`: to take them by place is cheaper than to sort.
        place = pl.int_range(2 * kept.height)
        order = pl.select(place // 2 + place % 2 * kept.height).to_series()
        return both.select(pl.all().gather(order))

    def _values(self, table: str, node: Typed, rows: pl.Series | None) -> pl.DataFrame:
        return self.steps(table, [node], lambda lowering: lowering.lower(node), rows)

    @property
    def _start(self) -> pl.Expr:
        return pl.lit(self.stretch.start, dtype=INSTANT)

    def _frame(
        self, table: str, nodes: list[Typed], points: pl.DataFrame, stepped: dict[Typed, pl.DataFrame]
    ) -> pl.DataFrame:
        """The columns that the expressions need, each row at its own instant."""
        frame = self.context.rows_for(table, points[ROW], nodes).with_columns(points[AT])
        for hop, steps in stepped.items():
            column = self.context.placed[hop]
            frame = frame.with_columns(along(points, steps, frame[column]))
        return frame

    # candidates

    def _candidates(
        self, table: str, nodes: list[Typed], stepped: dict[Typed, pl.DataFrame], rows: pl.Series | None
    ) -> list[pl.DataFrame]:
        """The rows and instants, in the stretch, at which an expression may change.

        One frame for each thing that may change it; where that is asked of the row itself, each row stands
        in it at most once, in order.
        """
        breakpoints = [steps.filter(pl.col(AT) > self._start).select(ROW, AT) for steps in stepped.values()]
        parts = list(dict.fromkeys(part for node in nodes for part in local(node)))
        past = [part for part in parts if isinstance(part, typed.Fact) and self.moves(part)]
        moving = [part for part in parts if isinstance(part, typed.Compare) and self.moves(part)]
        instants = [pl.col(part.column.name).cast(pl.Int64) for part in past]
        instants += [crossing for part in moving for crossing in crossings(part, self._raw)]
        if instants:
            breakpoints += self._in_stretch(self._rows(table, nodes, rows), instants)
        for part in moving:
            over = [hop for hop in stepped if hop in set(local(part)) and hop.type.kind is Kind.INSTANT]
            if over:
                breakpoints += self._crossings_along(table, part, {hop: stepped[hop] for hop in over})
        ticking = [line for node in nodes for line in clock_lines(node, self._raw, self.masked)]
        breakpoints = [part for part in breakpoints if part.height]
        if ticking:
            when = united(breakpoints)
            return [when, united(self._ticks(table, nodes, rows, when, ticking))]
        return breakpoints

    def _rows(self, table: str, nodes: list[Typed], rows: pl.Series | None) -> pl.DataFrame:
        names = self.context.names_for(table, nodes)
        if rows is not None:
            return self.context.rows_of(table, rows, names).with_columns(rows.cast(pl.UInt32).alias(ROW))
        return self.context.frames[table].select(names).with_row_index(ROW)

    def _in_stretch(self, frame: pl.DataFrame, instants: list[pl.Expr]) -> list[pl.DataFrame]:
        """Each instant that lies in the stretch, with its row."""
        named = [instant.alias(f"={number}") for number, instant in enumerate(instants)]
        all_of_them = frame.lazy().select(ROW, *named).collect()
        return [
            all_of_them.lazy()
            .filter(self.stretch.holds(pl.col(name)))
            .select(ROW, pl.col(name).cast(INSTANT).alias(AT))
            .collect()
            for name in all_of_them.columns[1:]
        ]

    def _crossings_along(
        self, table: str, node: typed.Compare, over: dict[Typed, pl.DataFrame]
    ) -> list[pl.DataFrame]:
        """The crossings of a comparison with an instant that itself changes by steps."""
        points = united([steps.select(ROW, AT) for steps in over.values()])
        frame = self._frame(table, [node], points, over).with_columns(points[ROW])
        return self._in_stretch(frame, crossings(node, self._raw))

    def _ticks(
        self, table: str, nodes: list[Typed], rows: pl.Series | None, when: pl.DataFrame, lines: list[Line]
    ) -> list[pl.DataFrame]:
        """The full hours near each end of each piece in which nothing else changes.

        Forwards they follow, backwards they precede it: what does not change in a week of hours
        does not change at all until something else does.
        """
        # Some zones are a half or three quarters of an hour off: there the clock's hour turns between UTC's.
        grid = _HOUR if self._whole_hours() else _QUARTER
        frame = self._rows(table, nodes, rows)
        # Hours go on for ever; what counts are those near an instant at which something else changes, or now.
        edge = self.context.at
        anchors = united([when, frame.select(ROW).with_columns(pl.lit(edge, dtype=INSTANT).alias(AT))])
        frame = frame.join(anchors, on=ROW, how="inner", maintain_order="left")
        anchor = pl.col(AT).cast(pl.Int64)
        reach = -_PATTERN_REPEATS if self.backwards else _PATTERN_REPEATS
        candidates = []
        for line in lines:
            tick = pl.int_ranges(
                pl.min_horizontal(self._tick(line, anchor, grid), self._tick(line, anchor + reach, grid)),
                pl.max_horizontal(self._tick(line, anchor, grid), self._tick(line, anchor + reach, grid)) + 1,
            )
            ticks = frame.lazy().select(ROW, line.offset.alias("offset"), tick.alias("tick")).collect()
            exploded = ticks.explode("tick").drop_nulls()
            at = (pl.col("tick") * grid - pl.col("offset")) // line.slope
            candidates += self._in_stretch(exploded, [at, at + 1])
        return candidates

    @staticmethod
    def _tick(line: Line, anchor: pl.Expr, grid: int) -> pl.Expr:
        return (anchor * line.slope + line.offset) // grid

    def _whole_hours(self) -> bool:
        """Whether the estate's clock is always whole hours away from UTC."""
        halves = pl.datetime_range(
            datetime(1970, 1, 1), datetime(2040, 1, 1), "91d", time_zone="UTC", eager=True
        ).dt.convert_time_zone(self.context.clock.key)
        offsets = halves.dt.base_utc_offset() + halves.dt.dst_offset()
        return bool((offsets.dt.total_seconds() % 3600 == 0).all())

    # hops

    def _of_hop(self, hop: Typed, table: str, rows: pl.Series | None) -> pl.DataFrame:
        if rows is not None:
            return self._hop(hop, table, rows)
        if hop not in self._whole:
            self._whole[hop] = self._hop(hop, table, None)
        return self._whole[hop]

    def _hop(self, hop: Typed, table: str, rows: pl.Series | None) -> pl.DataFrame:
        if isinstance(hop, typed.OfOwner):
            return self._brought(hop, rows)
        assert isinstance(hop, typed.RowQuery), "who else has a shared value is not followed through time"
        return self._queries.answered(hop, table, rows)

    def open_by_anybodys(self, query: typed.RowQuery) -> pl.DataFrame | None:
        """When accounts that may be anybody's leave a question open: see `RowQuerySteps`."""
        return self._queries.open_by_anybodys(query)

    @property
    def _queries(self) -> RowQuerySteps:
        end = pl.lit(self.stretch.end, dtype=INSTANT)
        return RowQuerySteps(self.context, self._start, end, self.backwards, self._values)

    def _brought(self, hop: typed.OfOwner, rows: pl.Series | None) -> pl.DataFrame:
        """The steps of something about the owner, on each of its rows."""
        owners = self.context.frames[hop.table][hop.link]
        links = pl.DataFrame({"owner": owners}).with_row_index(ROW)
        if rows is not None:
            links = links[rows]
        wanted = None if rows is None else links["owner"].drop_nulls().unique()
        steps = self._values(hop.owner, hop.body, wanted).rename({ROW: "owner"})
        return links.join(steps, on="owner", how="inner").select(ROW, AT, VALUE).sort(ROW, AT)
