"""Works out expressions over the evidence, columns at a time.

An expression may ask about rows of other tables, and those may ask about their account again.
Each such hop is a stage: the answers of one stage are columns when the next one runs.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace
from datetime import datetime
from zoneinfo import ZoneInfo

import polars as pl

from keymallet.core.base.columns import only_where
from keymallet.core.evaluating.elsewhere import Elsewhere
from keymallet.core.facts.declaration import ACCOUNT, PERSON, SETTING, TABLES
from keymallet.core.facts.evidence import (
    CANDIDATES,
    NOTHING_KNOWN,
    PERSON_ROW,
    UNREAD,
    Evidence,
    empty_frame,
    row_column,
    source_column,
)
from keymallet.core.language import typed
from keymallet.core.language.lowering import Lowering, is_unread
from keymallet.core.language.typed import Typed
from keymallet.core.linking.settings_in_force import SETTING_ROW, settings_in_force
from keymallet.core.linking.unshared import unshared


def columns_used(expressions: Iterable[tuple[str, Typed]]) -> dict[str, set[str]]:
    """The facts that expressions rest on, by table."""
    used: dict[str, set[str]] = {}
    for table, expression in expressions:
        used.setdefault(table, set())
        for node in expression.walk():
            if isinstance(node, typed.Fact):
                used.setdefault(node.table, set()).add(node.column.name)
            elif isinstance(node, typed.RowQuery):
                asked = used.setdefault(node.table, set())
                # Whose an account is decides whom a question about accounts is for, and that may be in doubt.
                if node.table == ACCOUNT.name:
                    asked |= {PERSON_ROW, CANDIDATES, PERSON.name}
                    used.setdefault(PERSON.name, set()).add("person")
            elif isinstance(node, typed.OfOwner):
                used.setdefault(node.table, set()).add(node.link)
                if node.to:
                    used.setdefault(ACCOUNT.name, set()).update(_TOLD_BY_SETTINGS)
                    used.setdefault(node.to, set()).add("applies-to")
    return used


_TOLD_BY_SETTINGS = ("name", "groups", "kind", "source")


class EvaluationContext:
    """The frames of one judging, growing by the answers that expressions need."""

    def __init__(
        self, evidence: Evidence, at: datetime, clock: ZoneInfo, elsewhere: Elsewhere | None = None
    ) -> None:
        tables = {table.name: evidence.tables.get(table.name) for table in TABLES.values()}
        frames = {
            name: empty_frame(TABLES[name]) if frame is None else frame for name, frame in tables.items()
        }
        if PERSON_ROW not in frames["account"].columns:
            nobody = pl.lit(None, dtype=pl.UInt32).alias(PERSON_ROW)
            frames["account"] = frames["account"].with_columns(nobody)
        self.evidence = replace(evidence, tables=frames)
        self.at = at
        self.clock = clock
        self.elsewhere = elsewhere
        self.frames = dict(frames)
        self.placed: dict[Typed, str] = {}
        # Judged at an instant before the reading: what had not happened yet is not known then.
        masked = any(at < read for read in evidence.read_at.values())
        self.lowering = Lowering(self.evidence, at, clock, self.placed, masked)

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
            if any(isinstance(node, typed.OfOwner) and node.to for node in hops):
                self._link_settings()
            self._answer([node for node in hops if isinstance(node, typed.RowQuery)])
            self._bring([node for node in hops if isinstance(node, typed.OfOwner)])
            self._look_for_sharers([node for node in hops if isinstance(node, typed.Unshared)])

    def select(self, table: str, expressions: list[pl.Expr]) -> list[pl.Series]:
        """Work out lowered expressions on every row of a table."""
        names = [f"={number}" for number in range(len(expressions))]
        named = [expression.alias(name) for expression, name in zip(expressions, names, strict=True)]
        # with_columns, not select: an expression without any column still has a value for each row.
        frame = self.frames[table].lazy().with_columns(named).select(names).collect()
        return frame.get_columns()

    def rows_for(self, table: str, rows: pl.Series, nodes: Iterable[Typed]) -> pl.DataFrame:
        """These rows of a table, with the columns that these expressions need."""
        return self.rows_of(table, rows, self.names_for(table, nodes))

    def names_for(self, table: str, nodes: Iterable[Typed]) -> list[str]:
        """The columns of a table that these expressions need to be lowered or explained."""
        known = TABLES[table]
        wanted = {source_column(known), row_column(known), SETTING_ROW, UNREAD, CANDIDATES}
        for node in nodes:
            for part in node.walk():
                if isinstance(part, typed.Fact):
                    wanted.add(part.column.name)
                if isinstance(part, typed.OfOwner | typed.RowQuery | typed.Unshared) and part in self.placed:
                    wanted.add(self.placed[part])
        return [name for name in self.frames[table].columns if name in wanted]

    def rows_of(self, table: str, rows: pl.Series, names: Iterable[str] | None = None) -> pl.DataFrame:
        """These rows of a table: all columns, or those that are named."""
        frame = self.frames[table]
        columns = frame.get_columns() if names is None else [frame[name] for name in names]
        return pl.DataFrame([self._in_one_piece(table, column) for column in columns])[rows]

    def _in_one_piece(self, table: str, column: pl.Series) -> pl.Series:
        """The column, put in one piece for good if it is of lists: taking rows of it would do so anew."""
        if column.n_chunks() == 1 or not isinstance(column.dtype, pl.List):
            return column
        self.frames[table] = self.frames[table].with_columns(column.rechunk())
        return self.frames[table][column.name]

    def shared_value(self, node: typed.Unshared, value: pl.Series) -> pl.Series:
        """What must not be shared: the value itself, or the value in its source."""
        if not node.within_source:
            return value
        source = self.frames[node.table][source_column(TABLES[node.table])].cast(pl.String)
        both = pl.DataFrame({"source": source, "value": value.cast(pl.String)})
        return both.select(pl.format("{}\0{}", "source", "value")).to_series()

    def _place(self, table: str, nodes: list[Typed], answers: list[pl.Series]) -> None:
        named = []
        for node, answer in zip(nodes, answers, strict=True):
            self.placed[node] = f"?{len(self.placed)}"
            named.append(answer.alias(self.placed[node]))
        self.frames[table] = self.frames[table].with_columns(named)

    def _bring(self, nodes: list[typed.OfOwner]) -> None:
        """Put something about its account, person or setting beside each row that has one."""
        for table, owner in dict.fromkeys((node.table, node.owner) for node in nodes):
            here = [node for node in nodes if (node.table, node.owner) == (table, owner)]
            rows = self.frames[table][here[0].link]
            answers = self.select(owner, [self.lowering.lower(node.body) for node in here])
            self._place(table, list(here), [answer.gather(rows) for answer in answers])

    def _link_settings(self) -> None:
        """Say beside each account which row of settings is in force for it."""
        accounts = self.frames[ACCOUNT.name]
        if SETTING_ROW not in accounts.columns:
            row = settings_in_force(accounts, self.frames[SETTING.name])
            self.frames[ACCOUNT.name] = accounts.with_columns(row.alias(SETTING_ROW))

    def _look_for_sharers(self, nodes: list[typed.Unshared]) -> None:
        """Say of each row whether its value is nobody else's."""
        for node in nodes:
            who, value, there, owner = self.held(node)
            others = None if self.elsewhere is None else self.elsewhere.of_values(node, value)
            self._place(node.table, [node], [unshared(who, value, there, owner, others)])

    def held(self, node: typed.Unshared) -> tuple[pl.Series, pl.Series, pl.Series, pl.Series | None]:
        """Of each row whether it counts, its value, whether that is there at all, and whose it is."""
        table = TABLES[node.table]
        known = typed.Known(typed.FLAG, "", node.fact, negated=False)
        who, value, there = self.select(
            node.table, [self.lowering.lower(part) for part in (node.who, node.fact, known)]
        )
        owner = self.frames[node.table][row_column(table)] if table.of_account else None
        return who, self.shared_value(node, value), there, owner

    def _answer(self, asked: list[typed.RowQuery]) -> None:
        """Answer questions about rows, for every account or person at once."""
        for table in dict.fromkeys(query.table for query in asked):
            here = [query for query in asked if query.table == table]
            conditions = [
                self._is_a_row(table) if query.condition is None else self.lowering.lower(query.condition)
                for query in here
            ]
            truths = self.select(table, conditions)
            owner = TABLES[table].owner
            rows = self.frames[table][row_column(TABLES[table])]
            owners = self.frames[owner].height
            maybe = self.may_belong() if owner == PERSON.name else None
            elsewhere = self.elsewhere.anybodys if self.elsewhere and maybe else {}
            counted: dict[Typed | None, pl.Series] = {}
            answers = []
            for query, truth in zip(here, truths, strict=True):
                if query.column is not None:
                    figures = self.frames[table][query.column.name]
                    answers.append(_farthest(query, truth, figures, rows, owners))
                elif query.question in _NUMBERS and maybe is None and not truth.null_count():
                    # Where every row is known to count or not, a number and its bounds are one.
                    if query.condition not in counted:
                        counted[query.condition] = _answered(query, truth, rows, owners)
                    answers.append(counted[query.condition])
                else:
                    there = elsewhere.get(query)
                    is_open = there is not None and there.now
                    answers.append(_answered(query, truth, rows, owners, maybe, is_open=is_open))
            if owner == ACCOUNT.name:
                answers = self._where_supplied(table, answers)
            self._place(owner, list(here), answers)

    def truth(self, query: typed.RowQuery) -> pl.Series:
        """Of each row of the table that is asked about whether it passes."""
        condition = query.condition
        if condition is not None:
            self.prepare([(query.table, condition)])
        lowered = self._is_a_row(query.table) if condition is None else self.lowering.lower(condition)
        return self.select(query.table, [lowered])[0]

    def _is_a_row(self, table: str) -> pl.Expr:
        """True; unknown on a row that stands for not knowing of any."""
        if UNREAD not in self.frames[table].columns:
            return pl.lit(True)
        return pl.when(~pl.col(UNREAD).list.contains(pl.lit(NOTHING_KNOWN)).fill_null(False)).then(True)

    def may_belong(self) -> MayBelong:
        """Which accounts may be whose, where it is not known whose they are."""
        accounts = self.frames[ACCOUNT.name]
        told_by_source = self.lowering.is_source_of("account", self.evidence.suppliers("account", "person"))
        unread = is_unread("person") if UNREAD in accounts.columns else pl.lit(False)
        untied = pl.col(PERSON_ROW).is_null() & (unread | (~told_by_source & pl.col("person").is_null()))
        columns = {"person": pl.String(), CANDIDATES: pl.List(pl.String())}
        absent = [pl.lit(None, dtype=t).alias(c) for c, t in columns.items() if c not in accounts.columns]
        whole = accounts.lazy().with_columns(absent).with_row_index("place")
        asked = whole.filter(untied).select("place", CANDIDATES).collect()
        named = asked.drop_nulls().explode(CANDIDATES).rename({CANDIDATES: "person"})
        people = self.frames[PERSON.name].select("person").with_row_index("row")
        return MayBelong(
            anybodys=asked.filter(pl.col(CANDIDATES).is_null())["place"],
            named=named.join(people, on="person", how="inner").select("place", "row"),
        )

    def _where_supplied(self, table: str, answers: list[pl.Series]) -> list[pl.Series]:
        """No rows mean something only where the account's source supplies the table at all."""
        suppliers = self.evidence.suppliers(table)
        if len(suppliers) == len(self.evidence.sources):
            return answers
        supplied = self.lowering.is_source_of(ACCOUNT.name, suppliers)
        named = [answer.alias(f"{number}") for number, answer in enumerate(answers)]
        frame = self.frames[ACCOUNT.name].select("source").hstack(named)
        return frame.select(
            pl.when(supplied).then(pl.col(answer.name)).name.keep() for answer in named
        ).get_columns()


@dataclass(frozen=True)
class MayBelong:
    """Rows that may be anybody's, and pairs of a row and somebody whose it may be."""

    anybodys: pl.Series
    named: pl.DataFrame

    def are_open(self, truth: pl.Series) -> bool:
        """Whether any row that may be anybody's is not surely out of it."""
        return bool(truth.fill_null(True).gather(self.anybodys).any())

    def unsure(self, truth: pl.Series, owners: int, *, is_open: bool = False) -> pl.Series | None:
        """For whom rows that may be theirs leave the answer open: those that are not surely out of it."""
        possible = truth.fill_null(True)
        if is_open or self.are_open(truth):
            return pl.repeat(True, owners, dtype=pl.Boolean, eager=True)
        named = self.named["row"].filter(possible.gather(self.named["place"]))
        return _marked(named, owners) if len(named) else None


def decisive(query: typed.RowQuery, truth: pl.Series) -> pl.Series:
    """Of each row whether it makes a difference to the answer, if it is the owner's."""
    return ~truth if query.question == "every" else truth


_NUMBERS = ("count", "fewest", "most")


def _answered(
    query: typed.RowQuery,
    truth: pl.Series,
    rows: pl.Series,
    accounts: int,
    maybe: MayBelong | None = None,
    *,
    is_open: bool = False,
) -> pl.Series:
    """The answer for every owner, from the truth on each row and the owner each row belongs to.

    `is_open`: a row that lies elsewhere, and may be anybody's, leaves it open for all.

    Marking owners takes a single pass over the rows; grouping them would take many times as long.
    """
    unsure = _marked(rows.filter(truth.is_null()), accounts) if truth.null_count() else None
    open_to = None
    if maybe is not None:
        open_to = maybe.unsure(decisive(query, truth), accounts, is_open=is_open)
    if open_to is not None:
        unsure = open_to if unsure is None else unsure | open_to
    if query.question in _NUMBERS:
        number = _counted(rows.filter(truth.fill_null(False)), accounts)
        if unsure is None or query.question == "fewest":
            return number
        if query.question == "most" and maybe is None:
            return _counted(rows.filter(truth.fill_null(True)), accounts)
        # Any row of which it is not known whether it counts, or whose it is, makes the number unknown.
        return only_where(~unsure, number)
    if query.question == "every":
        missed = _marked(rows.filter(~truth.fill_null(True)), accounts)
        return ~missed if unsure is None else only_where(missed | ~unsure, ~missed)
    hit = _marked(rows.filter(truth.fill_null(False)), accounts)
    answer = hit if unsure is None else only_where(hit | ~unsure, hit)
    return ~answer if query.question == "no" else answer


def _farthest(
    query: typed.RowQuery, truth: pl.Series, figures: pl.Series, rows: pl.Series, owners: int
) -> pl.Series:
    """The latest or earliest of a column among each owner's rows that pass; null if that is not known."""
    passing = pl.DataFrame({"owner": rows, "figure": figures}).filter(truth.fill_null(False)).drop_nulls()
    best = pl.col("figure").max() if query.question == "latest" else pl.col("figure").min()
    extremes = passing.group_by("owner").agg(best)
    answers = pl.Series([None], dtype=figures.dtype).new_from_index(0, owners)
    answers = answers.scatter(extremes["owner"], extremes["figure"])
    if not truth.null_count():
        return answers
    return only_where(~_marked(rows.filter(truth.is_null()), owners), answers)


def _marked(rows: pl.Series, accounts: int) -> pl.Series:
    return pl.repeat(False, accounts, dtype=pl.Boolean, eager=True).scatter(rows.drop_nulls(), True)


def _counted(rows: pl.Series, accounts: int) -> pl.Series:
    counts = rows.drop_nulls().value_counts(name="rows")
    return pl.zeros(accounts, dtype=pl.Int64, eager=True).scatter(
        counts[rows.name], counts["rows"].cast(pl.Int64)
    )


def _stage(node: Typed, stages: dict[int, dict[Typed, None]]) -> int:
    """Enter every hop to another table below `node` under its stage; return the highest."""
    below = max((_stage(part, stages) for part in node.parts), default=0)
    if not isinstance(node, typed.OfOwner | typed.RowQuery | typed.Unshared):
        return below
    stages.setdefault(below + 1, {})[node] = None
    return below + 1
