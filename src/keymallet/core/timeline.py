"""How values change with time alone, over a stretch of time: exact, and columns at a time.

`Timeline.steps` gives, for the rows whose value changes in the stretch, each value and the instant
from which it holds. Candidates for a change come from the expression itself (`language.flips`); at
each of them the expression is judged, with the instant as a column, and what did not change is
dropped. Questions about rows of other tables are step functions themselves, counted up from the
steps of each row. Rows that do not change at all are not in the answer: their value is the one that
the workspace has.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass, replace
from datetime import UTC, datetime, timedelta

import polars as pl

from keymallet.core import facts
from keymallet.core.evidence import data_type, row_column
from keymallet.core.facts import Kind
from keymallet.core.language import typed
from keymallet.core.language.flips import Line, clock_lines, crossings, is_hop, local, moves
from keymallet.core.language.lower import AT, Lowering
from keymallet.core.language.typed import Typed
from keymallet.core.workspace import Workspace

ROW, VALUE = "row", "value"
BEGINNING = datetime(1900, 1, 1, tzinfo=UTC)
"""Before every fact there is."""
END = datetime(9998, 12, 31, tzinfo=UTC)
_HOUR = 3_600_000_000
_QUARTER = _HOUR // 4
_PATTERN_REPEATS = 8 * 24 * _HOUR
"""Hours and days of the week come round in a week; a day more, for clocks that are put forward or back."""
_INSTANT = pl.Datetime("us", "UTC")


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
    """Step functions of time over the frames of one workspace, from or up to the instant judged at."""

    def __init__(self, workspace: Workspace, stretch: Stretch) -> None:
        backwards = stretch.end <= workspace.at
        self.workspace = workspace
        self.stretch = stretch
        self.backwards = backwards
        self.masked = backwards or workspace.lowering.masked
        own = workspace.lowering
        self.lowering = replace(own, at=None, masked=self.masked)
        self._raw = replace(own, masked=False)
        self._whole: dict[Typed, pl.DataFrame] = {}

    @classmethod
    def until_now(cls, workspace: Workspace) -> Timeline:
        """Everything up to the instant judged at."""
        return cls(workspace, Stretch(BEGINNING, workspace.at))

    @classmethod
    def from_now(cls, workspace: Workspace, end: datetime = END) -> Timeline:
        """Everything after the instant judged at, up to `end`."""
        return cls(workspace, Stretch(workspace.at, end))

    def moves(self, node: Typed) -> bool:
        """Whether the expression can change in the stretch."""
        return moves(node, self.masked)

    def steps(
        self,
        table: str,
        nodes: list[Typed],
        build: Callable[[Lowering], pl.Expr],
        rows: pl.Series | None = None,
        now: pl.Series | None = None,
    ) -> pl.DataFrame:
        """The steps of what `build` makes of these expressions, on these rows of a table (None: all).

        Gives ROW, AT (the instant from which it holds) and VALUE, ordered by row and instant; the first
        entry of each row is at the start of the stretch. `now` are the values of all rows at the instant
        judged at, where they are known already.
        """
        if not any(self.moves(node) for node in nodes):
            return _empty(pl.Null())
        hops = dict.fromkeys(
            part for node in nodes for part in local(node) if is_hop(part) and self.moves(part)
        )
        stepped = {hop: self._of_hop(hop, table, rows) for hop in hops}
        candidates = self._candidates(table, nodes, stepped, rows)
        if not candidates:
            return _empty(pl.Null())
        if not hops and len(candidates) == 1:
            return self._single_steps(table, nodes, build, candidates[0], now)
        openings = pl.concat(part.select(ROW) for part in candidates).unique()
        # An instant that stands twice changes nothing the second time, and is dropped with what does not.
        points = pl.concat([openings.with_columns(self._start.alias(AT)), *candidates]).sort(ROW, AT)
        frame = self._frame(table, nodes, points, stepped)
        value = frame.lazy().select(build(self.lowering).alias(VALUE)).collect().to_series()
        if len(value) != points.height:  # an expression without any column
            value = value.new_from_index(0, points.height)
        return _only_changes(points.with_columns(value))

    def _single_steps(
        self,
        table: str,
        nodes: list[Typed],
        build: Callable[[Lowering], pl.Expr],
        when: pl.DataFrame,
        now: pl.Series | None,
    ) -> pl.DataFrame:
        """The same where every row has a single candidate: nothing has to be put in order."""
        frame = self._frame(table, nodes, when, {})
        built = build(self.lowering).alias(VALUE)
        changed = frame.with_columns(built)[VALUE]
        if now is not None and not self.backwards:
            opening = now.gather(when[ROW])
        else:
            opening = frame.with_columns(self._start.alias(AT)).with_columns(built)[VALUE]
        differs = changed.ne_missing(opening)
        kept = when.filter(differs)
        starts = kept.with_columns(self._start.alias(AT), opening.filter(differs).alias(VALUE))
        both = pl.concat([starts, kept.with_columns(changed.filter(differs).alias(VALUE))])
        # Each row's opening, then its change: to interleave them is cheaper than to sort.
        place = pl.int_range(2 * kept.height)
        order = pl.select(place // 2 + place % 2 * kept.height).to_series()
        return both.select(pl.all().gather(order))

    def _values(self, table: str, node: Typed, rows: pl.Series | None) -> pl.DataFrame:
        return self.steps(table, [node], lambda lowering: lowering.lower(node), rows)

    @property
    def _start(self) -> pl.Expr:
        return pl.lit(self.stretch.start, dtype=_INSTANT)

    def _frame(
        self, table: str, nodes: list[Typed], points: pl.DataFrame, stepped: dict[Typed, pl.DataFrame]
    ) -> pl.DataFrame:
        """The columns that the expressions need, each row at its own instant."""
        frame = self.workspace.rows_for(table, points[ROW], nodes).with_columns(points[AT])
        for hop, steps in stepped.items():
            column = self.workspace.placed[hop]
            frame = frame.with_columns(_along(points, steps, frame[column]))
        return frame

    # candidates

    def _candidates(
        self, table: str, nodes: list[Typed], stepped: dict[Typed, pl.DataFrame], rows: pl.Series | None
    ) -> list[pl.DataFrame]:
        """The rows and instants, in the stretch, at which an expression may change.

        One frame for each thing that may change it; where that is asked of the row itself, each row stands
        in it at most once, in order.
        """
        found = [steps.filter(pl.col(AT) > self._start).select(ROW, AT) for steps in stepped.values()]
        parts = list(dict.fromkeys(part for node in nodes for part in local(node)))
        past = [part for part in parts if isinstance(part, typed.Fact) and self.moves(part)]
        moving = [part for part in parts if isinstance(part, typed.Compare) and self.moves(part)]
        instants = [pl.col(part.column.name).cast(pl.Int64) for part in past]
        instants += [each for part in moving for each in crossings(part, self._raw)]
        if instants:
            found += self._in_stretch(self._rows(table, nodes, rows), instants)
        for part in moving:
            over = [hop for hop in stepped if hop in set(local(part)) and hop.type.kind is Kind.INSTANT]
            if over:
                found += self._crossings_along(table, part, {hop: stepped[hop] for hop in over})
        ticking = [line for node in nodes for line in clock_lines(node, self._raw, self.masked)]
        found = [part for part in found if part.height]
        if ticking:
            when = _united(found)
            return [when, _united(self._ticks(table, nodes, rows, when, ticking))]
        return found

    def _rows(self, table: str, nodes: list[Typed], rows: pl.Series | None) -> pl.DataFrame:
        names = self.workspace.names_for(table, nodes)
        if rows is not None:
            return self.workspace.rows_of(table, rows, names).with_columns(rows.cast(pl.UInt32).alias(ROW))
        return self.workspace.frames[table].select(names).with_row_index(ROW)

    def _in_stretch(self, frame: pl.DataFrame, instants: list[pl.Expr]) -> list[pl.DataFrame]:
        """Each instant that lies in the stretch, with its row."""
        named = [instant.alias(f"={number}") for number, instant in enumerate(instants)]
        all_of_them = frame.lazy().select(ROW, *named).collect()
        return [
            all_of_them.lazy()
            .filter(self.stretch.holds(pl.col(name)))
            .select(ROW, pl.col(name).cast(_INSTANT).alias(AT))
            .collect()
            for name in all_of_them.columns[1:]
        ]

    def _crossings_along(
        self, table: str, node: typed.Compare, over: dict[Typed, pl.DataFrame]
    ) -> list[pl.DataFrame]:
        """The crossings of a comparison with an instant that itself changes by steps."""
        points = _united([steps.select(ROW, AT) for steps in over.values()])
        frame = self._frame(table, [node], points, over).with_columns(points[ROW])
        return self._in_stretch(frame, crossings(node, self._raw))

    def _ticks(
        self, table: str, nodes: list[Typed], rows: pl.Series | None, when: pl.DataFrame, lines: list[Line]
    ) -> list[pl.DataFrame]:
        """The full hours near each end of each piece in which nothing else changes.

        Forwards they follow, backwards they precede it: what does not change in a week of hours
        does not change at all until something else does.
        """
        grid = _HOUR if self._whole_hours() else _QUARTER
        frame = self._rows(table, nodes, rows)
        edge = self.workspace.at
        anchors = _united([when, frame.select(ROW).with_columns(pl.lit(edge, dtype=_INSTANT).alias(AT))])
        frame = frame.join(anchors, on=ROW, how="inner", maintain_order="left")
        anchor = pl.col(AT).cast(pl.Int64)
        reach = -_PATTERN_REPEATS if self.backwards else _PATTERN_REPEATS
        found = []
        for line in lines:
            tick = pl.int_ranges(
                pl.min_horizontal(self._tick(line, anchor, grid), self._tick(line, anchor + reach, grid)),
                pl.max_horizontal(self._tick(line, anchor, grid), self._tick(line, anchor + reach, grid)) + 1,
            )
            ticks = frame.lazy().select(ROW, line.offset.alias("offset"), tick.alias("tick")).collect()
            each = ticks.explode("tick").drop_nulls()
            at = (pl.col("tick") * grid - pl.col("offset")) // line.slope
            found += self._in_stretch(each, [at, at + 1])
        return found

    @staticmethod
    def _tick(line: Line, anchor: pl.Expr, grid: int) -> pl.Expr:
        return (anchor * line.slope + line.offset) // grid

    def _whole_hours(self) -> bool:
        """Whether the estate's clock is always whole hours away from UTC."""
        halves = pl.datetime_range(
            datetime(1970, 1, 1), datetime(2040, 1, 1), "91d", time_zone="UTC", eager=True
        ).dt.convert_time_zone(self.workspace.clock.key)
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
        if isinstance(hop, typed.Unshared):
            return _empty(pl.Boolean())  # taken as it is now: who else has it is not followed through time
        assert isinstance(hop, typed.Ask)
        return self._asked(hop, table, rows)

    def _brought(self, hop: typed.OfOwner, rows: pl.Series | None) -> pl.DataFrame:
        """The steps of something about the owner, on each of its rows."""
        owners = self.workspace.frames[hop.table][hop.link]
        links = pl.DataFrame({"owner": owners}).with_row_index(ROW)
        if rows is not None:
            links = links[rows]
        wanted = None if rows is None else links["owner"].drop_nulls().unique()
        steps = self._values(hop.owner, hop.body, wanted).rename({ROW: "owner"})
        return links.join(steps, on="owner", how="inner").select(ROW, AT, VALUE).sort(ROW, AT)

    def _asked(self, ask: typed.Ask, table: str, rows: pl.Series | None) -> pl.DataFrame:
        """The steps of a question's answer, counted up from the steps of its condition."""
        assert ask.condition is not None, "what asks for nothing does not change"
        links = _Links(self.workspace, ask)
        steps = self._values(ask.table, ask.condition, links.rows_of(rows))
        said = steps.with_columns(
            before=pl.when(pl.col(ROW) == pl.col(ROW).shift()).then(_code(pl.col(VALUE)).shift()),
            after=_code(pl.col(VALUE)),
        ).drop(VALUE)
        owned = said.join(links.owned, on=ROW, how="inner")
        perhaps = said.join(links.perhaps, on=ROW, how="inner")
        owners = pl.concat([owned["owner"], perhaps["owner"]]).unique()
        anybodys = said.join(links.anybodys, on=ROW, how="semi")
        if anybodys.height:
            everybody = pl.int_range(self.workspace.frames[table].height, dtype=pl.UInt32, eager=True)
            owners = everybody if rows is None else rows.cast(pl.UInt32)
        elif rows is not None:
            owners = owners.filter(owners.is_in(rows.implode()))
        if not len(owners):
            return _empty(data_type_of(ask))
        if ask.column is not None:
            return self._greatest_of(ask, owners, steps, links)
        counted = [
            owned.select("owner", AT, "before", "after"),
            self._standing(ask, links.owned, owners, steps),
        ]
        counted += [_open(ask, each) for each in (perhaps, self._standing(ask, links.perhaps, owners, steps))]
        counted += self._of_anybody(ask, links, anybodys, owners, steps)
        return self._counted(ask, table, pl.concat(counted, how="diagonal_relaxed"), owners)

    def _standing(
        self, ask: typed.Ask, links: pl.DataFrame, owners: pl.Series, steps: pl.DataFrame
    ) -> pl.DataFrame:
        """What the rows that do not change contribute to these owners, from the start on."""
        mine = links.filter(pl.col("owner").is_in(owners.implode())).join(steps, on=ROW, how="anti")
        return mine.select("owner").with_columns(
            self._start.alias(AT),
            pl.lit(None, dtype=pl.Int8).alias("before"),
            _code_of(self._truth(ask, mine[ROW])).alias("after"),
        )

    def _truth(self, ask: typed.Ask, rows: pl.Series) -> pl.Series:
        """The truth of the condition on rows on which it does not change."""
        assert ask.condition is not None
        frame = self.workspace.rows_for(ask.table, rows, [ask.condition])
        lowered = self.workspace.lowering.lower(ask.condition).alias("=")
        return frame.lazy().with_columns(lowered).select("=").collect().to_series()

    def _of_anybody(
        self, ask: typed.Ask, links: _Links, moving: pl.DataFrame, owners: pl.Series, steps: pl.DataFrame
    ) -> list[pl.DataFrame]:
        """What accounts that may be anybody's contribute to everybody: not knowing, while one may count."""
        if not links.anybodys.height:
            return []
        one = pl.lit(0, dtype=pl.UInt32).alias("owner")
        still = links.anybodys.with_columns(one)
        alone = pl.Series([0], dtype=pl.UInt32)
        parts = [
            _open(ask, moving.with_columns(one)),
            _open(ask, self._standing(ask, still.select(ROW, "owner"), alone, steps)),
        ]
        sums = _sums(pl.concat(parts, how="diagonal_relaxed")).with_columns(pl.col("unknown") > 0)
        changes = sums.filter(pl.col("unknown").ne_missing(pl.col("unknown").shift()))
        code = pl.when("unknown").then(pl.lit(_UNKNOWN)).otherwise(pl.lit(_surely_out(ask)))
        entries = changes.select(AT, code.cast(pl.Int8).alias("after"))
        entries = entries.with_columns(before=pl.col("after").shift())
        return [owners.alias("owner").to_frame().join(entries, how="cross")]

    def _counted(self, ask: typed.Ask, table: str, entries: pl.DataFrame, owners: pl.Series) -> pl.DataFrame:
        sums = _sums(entries.filter(pl.col("owner").is_in(owners.implode())))
        answers = sums.select(
            pl.col("owner").cast(pl.UInt32).alias(ROW), AT, _answer(ask.question).alias(VALUE)
        )
        return _only_changes(self._where_supplied(ask, table, answers))

    def _where_supplied(self, ask: typed.Ask, table: str, answers: pl.DataFrame) -> pl.DataFrame:
        """Where the source does not supply the rows at all, the answer is not known at any time."""
        if table != facts.ACCOUNT.name:
            return answers
        suppliers = self.workspace.evidence.suppliers(ask.table)
        supplied = self.workspace.rows_of(table, answers[ROW], ["source"]).select(
            self.workspace.lowering.is_source_of(table, suppliers).alias("=")
        )
        if supplied.height != answers.height:
            return answers if supplied["="][0] else answers.clear()
        return answers.filter(supplied["="])

    def _greatest_of(
        self, ask: typed.Ask, owners: pl.Series, steps: pl.DataFrame, links: _Links
    ) -> pl.DataFrame:
        """The steps of `latest` and `earliest`: at each change, over the rows that count at that time."""
        assert ask.column is not None
        until = pl.when(pl.col(ROW) == pl.col(ROW).shift(-1)).then(pl.col(AT).shift(-1))
        end = pl.lit(END, dtype=_INSTANT)
        spans = steps.select(ROW, AT, until.fill_null(end).alias("to"), VALUE)
        mine = links.owned.filter(pl.col("owner").is_in(owners.implode()))
        still = mine.join(steps, on=ROW, how="anti").select(ROW)
        standing = still.with_columns(
            self._start.alias(AT), end.alias("to"), self._truth(ask, still[ROW]).alias(VALUE)
        )
        counting = pl.concat([spans, standing]).filter(pl.col(VALUE).fill_null(True)).join(mine, on=ROW)
        figures = self.workspace.frames[ask.table][ask.column.name].gather(counting[ROW])
        counting = counting.with_columns(figures.alias("figure"))
        moments = links.owned.join(steps, on=ROW).select("owner", AT).unique()
        found = moments.rename({AT: "moment"}).join(counting, on="owner", how="left")
        counts = (pl.col(AT) <= pl.col("moment")) & (pl.col("to") > pl.col("moment"))
        best = pl.col("figure").filter(counts & pl.col(VALUE))
        best = best.max() if ask.question == "latest" else best.min()
        unsure = (counts & pl.col(VALUE).is_null()).any()
        answers = found.group_by("owner", "moment").agg(pl.when(~unsure).then(best).alias(VALUE))
        named = answers.select(pl.col("owner").alias(ROW), pl.col("moment").alias(AT), VALUE).sort(ROW, AT)
        return _only_changes(self._where_supplied(ask, facts.TABLES[ask.table].owner, named))


class _Links:
    """Which rows belong to which owners, surely or perhaps."""

    def __init__(self, workspace: Workspace, ask: typed.Ask) -> None:
        table = facts.TABLES[ask.table]
        owners = workspace.frames[table.name][row_column(table)]
        self.owned = pl.DataFrame({"owner": owners}).with_row_index(ROW).drop_nulls()
        nobody = pl.DataFrame(schema={ROW: pl.UInt32, "owner": pl.UInt32})
        self.perhaps, self.anybodys = nobody, nobody.select(ROW)
        if table.owner == facts.PERSON.name:
            maybe = workspace.may_belong()
            self.perhaps = maybe.named.select(pl.col("place").alias(ROW), pl.col("row").alias("owner"))
            self.anybodys = maybe.anybodys.alias(ROW).to_frame()

    def rows_of(self, owners: pl.Series | None) -> pl.Series | None:
        """The rows that belong, or may belong, to these owners; None: all."""
        if owners is None:
            return None
        of = pl.col("owner").is_in(owners.implode())
        parts = [self.owned.filter(of)[ROW], self.perhaps.filter(of)[ROW], self.anybodys[ROW]]
        return pl.concat(parts).unique().sort()


_FALSE, _TRUE, _UNKNOWN = 0, 1, 2


def _code(value: pl.Expr) -> pl.Expr:
    return value.cast(pl.Int8).fill_null(_UNKNOWN)


def _code_of(values: pl.Series) -> pl.Series:
    return values.cast(pl.Int8).fill_null(_UNKNOWN)


def _surely_out(ask: typed.Ask) -> int:
    """The truth of a row that decides nothing."""
    return _TRUE if ask.question == "every" else _FALSE


def _open(ask: typed.Ask, entries: pl.DataFrame) -> pl.DataFrame:
    """The entries of rows that may not be the owner's: they count as not known, or are surely out of it."""
    out = _surely_out(ask)

    def opened(name: str) -> pl.Expr:
        code = pl.when(pl.col(name) == out).then(pl.lit(out)).otherwise(pl.lit(_UNKNOWN))
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
    grouped = entries.group_by("owner", AT).agg(changes).sort("owner", AT)
    return grouped.with_columns(pl.col(list(codes)).cum_sum().over("owner"))


def _answer(question: str) -> pl.Expr:
    """The answer to a question, from how many rows are true, unknown and false."""
    if question == "count":
        return pl.when(pl.col("unknown") == 0).then(pl.col("true"))
    decided, told = ("false", False) if question == "every" else ("true", question == "some")
    return pl.when(pl.col(decided) > 0).then(pl.lit(told)).when(pl.col("unknown") == 0).then(pl.lit(not told))


def _united(frames: Iterable[pl.DataFrame]) -> pl.DataFrame:
    """Rows and instants of several frames, each once, in order."""
    schema = pl.DataFrame(schema={ROW: pl.UInt32, AT: _INSTANT})
    return pl.concat([schema, *frames]).unique().sort(ROW, AT)


def _empty(kind: pl.DataType) -> pl.DataFrame:
    return pl.DataFrame(schema={ROW: pl.UInt32, AT: _INSTANT, VALUE: kind})


def data_type_of(ask: typed.Ask) -> pl.DataType:
    """The Polars type of a question's answer."""
    if ask.column is not None:
        return data_type(ask.column)
    return pl.Int64() if ask.question == "count" else pl.Boolean()


def _only_changes(points: pl.DataFrame) -> pl.DataFrame:
    """Drop what changes nothing, then rows of which only the opening is left."""
    same_row = pl.col(ROW) == pl.col(ROW).shift()
    changed = pl.col(VALUE).ne_missing(pl.col(VALUE).shift())
    kept = points.filter(~same_row.fill_null(False) | changed)
    alone = (pl.col(ROW) != pl.col(ROW).shift()).fill_null(True)
    alone &= (pl.col(ROW) != pl.col(ROW).shift(-1)).fill_null(True)
    return kept.filter(~alone)


def _along(points: pl.DataFrame, steps: pl.DataFrame, constant: pl.Series) -> pl.Series:
    """The value that holds at each point; `constant` where the row has no steps."""
    marks = steps.select(ROW, AT).with_row_index("step").with_columns(pl.lit(None, pl.UInt32).alias("point"))
    asked = points.select(ROW, AT).with_columns(pl.lit(None, pl.UInt32).alias("step"))
    asked = asked.with_row_index("point").select("step", ROW, AT, "point")
    merged = pl.concat([marks, asked]).sort(ROW, AT, "point", nulls_last=False)
    merged = merged.with_columns(pl.col("step").forward_fill()).drop_nulls("point")
    found = pl.DataFrame(
        {
            "own": steps[ROW].gather(merged["step"]) == merged[ROW],
            "value": steps[VALUE].gather(merged["step"]).cast(constant.dtype),
            "constant": constant,
        }
    )
    told = pl.when(pl.col("own").fill_null(False)).then("value").otherwise("constant")
    return found.select(told.alias(constant.name)).to_series()
