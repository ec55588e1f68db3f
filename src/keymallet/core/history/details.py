"""What exactly changed where a finding changed its state: which fact, limit, term or entry, and how."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property
from zoneinfo import ZoneInfo

import polars as pl

from keymallet.core.evaluating.context import columns_used
from keymallet.core.explaining.row_names import named_by, row_name
from keymallet.core.explaining.wording import constant_text
from keymallet.core.facts.declaration import ACCOUNT, PERSON, TABLES
from keymallet.core.facts.evidence import ACCOUNT_ROW, PERSON_ROW, source_column
from keymallet.core.facts.model import Kind, Table
from keymallet.core.history.columns import ACCOUNT_KEY, CHANGED, FINDING, ROW, ROW_KEY, RULE_KEY
from keymallet.core.history.identity import Identities, rule_keys
from keymallet.core.history.states import Cause, State
from keymallet.core.judging.exemptions import covers_rule
from keymallet.core.language import typed
from keymallet.core.language.typed import limit_of
from keymallet.core.rulebook.model import Demand, Rule, Rulebook, Tally
from keymallet.core.rulebook.register import Register

_MOST = 12
"""So many changes are told of one finding; what changed besides is left out."""
_CELL = {"what": pl.String(), "was": pl.String(), "is": pl.String(), "source": pl.String()}
_NO_CELLS = pl.DataFrame(schema={FINDING: pl.String(), **_CELL})


@dataclass(frozen=True)
class Side:
    """One of the two runs that are held against each other."""

    identities: Identities
    rulebook: Rulebook
    register: Register | None

    @cached_property
    def demands(self) -> dict[str, Demand]:
        """The rules and tallies, by what their findings are known by."""
        called = rule_keys(self.rulebook)
        return {called[demand.id]: demand for demand in self.rulebook.demands}


def details(transitions: pl.DataFrame, before: Side, after: Side, clock: ZoneInfo) -> pl.Series:
    """For each transition what changed, as CHANGED; empty where its cause says all there is to say."""
    parts = [_NO_CELLS]
    by_facts = [str(cause) for cause in (Cause.FACTS, Cause.UNKNOWN, Cause.NOT_READ)]
    facts = _Facts(transitions.filter(pl.col("cause").is_in(by_facts)), before, after, clock)
    for (cause, key), part in transitions.group_by("cause", RULE_KEY, maintain_order=True):
        if cause in by_facts:
            parts += facts.of_rule(part, str(key))
        elif cause in (Cause.RULEBOOK, Cause.REGISTER):
            told = (
                _of_rule(str(key), before, after)
                if cause == Cause.RULEBOOK
                else _of_register(part, before, after)
            )
            for what, was, now in told:
                parts.append(
                    part.select(FINDING).with_columns(
                        pl.lit(what).alias("what"),
                        pl.lit(was, dtype=pl.String).alias("was"),
                        pl.lit(now, dtype=pl.String).alias("is"),
                        pl.lit(None, dtype=pl.String).alias("source"),
                    )
                )
    cells = pl.concat(parts).select(FINDING, pl.struct(*_CELL).alias("changed"))
    listed = cells.group_by(FINDING, maintain_order=True).agg(pl.col("changed").head(_MOST))
    found = transitions.select(FINDING).join(listed, on=FINDING, how="left", maintain_order="left")
    return found["changed"].cast(CHANGED).fill_null([])


# the rulebook and the register


def _of_rule(key: str, before: Side, after: Side) -> Iterator[tuple[str, str | None, str | None]]:
    """What changed in a rule: it is new or gone, or its limits, terms, its text, or the file it stands in."""
    old, new = (side.demands.get(key) for side in (before, after))
    if old is None or new is None:
        yield f"rule {key}", old.title if old else None, new.title if new else None
        return
    limits = [_limits(demand) for demand in (old, new)]
    for name in dict.fromkeys((*limits[0], *limits[1])):
        was, now = limits[0].get(name), limits[1].get(name)
        if was != now:
            yield f"limit {name}", was, now
    terms = [_terms(demand) for demand in (old, new)]
    for name in dict.fromkeys((*terms[0], *terms[1])):
        was, now = terms[0].get(name), terms[1].get(name)
        if was != now:
            yield f"term {name}", was, now
    for what, was, now in zip(("who", "must", "number", "grace"), _texts(old), _texts(new), strict=True):
        if was != now:
            yield f"{what} of rule {new.id}", was or None, now or None
    if old.origin != new.origin:
        yield f"file of rule {new.id}", old.origin, new.origin


def _limits(demand: Demand) -> dict[str, str]:
    found = {}
    for part in _parts(demand):
        name = limit_of(part)
        if name and isinstance(part, typed.Const | typed.ConstList):
            found[name] = constant_text(part)
        elif name:
            found[name] = part.text
    return found


def _terms(demand: Demand) -> dict[str, str]:
    return {part.name: part.body.text for part in _parts(demand) if isinstance(part, typed.Term)}


def _parts(demand: Demand) -> Iterator[typed.Typed]:
    for expression in demand.expressions:
        yield from expression.walk()


def _texts(demand: Demand) -> tuple[str, ...]:
    grace = str(demand.grace) if isinstance(demand, Rule) and demand.grace else ""
    if isinstance(demand, Rule):
        return demand.who.text, demand.must.text, "", grace
    assert isinstance(demand, Tally)
    return demand.count.text, "", f"{demand.least} to {demand.most} {demand.by}".strip(), grace


def _of_register(
    part: pl.DataFrame, before: Side, after: Side
) -> Iterator[tuple[str, str | None, str | None]]:
    """Which entries about the rule were added, ended or changed."""
    rules = part["rule"].unique().to_list()
    old, new = (
        {entry.id: entry for entry in side.register.exemptions} if side.register else {}
        for side in (before, after)
    )
    for name in dict.fromkeys((*old, *new)):
        was, now = old.get(name), new.get(name)
        if was != now and any(covers_rule(each, rule) for each in (was, now) if each for rule in rules):
            yield (
                f"register entry {name}",
                "there" if was else None,
                "changed" if was and now else "there" if now else None,
            )


# facts


class _Facts:
    """What the facts of findings were and are; rows are looked up once for all of them."""

    def __init__(self, findings: pl.DataFrame, before: Side, after: Side, clock: ZoneInfo) -> None:
        self.sides = (before, after)
        self.clock = clock
        by = [ACCOUNT_KEY, ROW_KEY]
        accounts = findings.select(ACCOUNT_KEY, pl.lit("").alias(ROW_KEY))
        self._asked = pl.concat([findings.select(by), accounts]).unique()
        self._rows: dict[str, list[pl.DataFrame]] = {}
        self._children: dict[str, list[pl.DataFrame]] = {}

    def frames(self, table: Table) -> list[pl.DataFrame]:
        """The table on both sides."""
        return [side.identities.judgement.context.frames[table.name] for side in self.sides]

    def located(self, table: Table, findings: pl.DataFrame) -> list[pl.DataFrame]:
        """FINDING and ROW on both sides: where the rows that findings are on stand, or null."""
        by = [ACCOUNT_KEY, ROW_KEY]
        if table.name not in self._rows:
            self._rows[table.name] = [
                side.identities.of_table(table.name).with_row_index(ROW).join(self._asked, on=by, how="semi")
                for side in self.sides
            ]
        asked = findings.select(FINDING, *by)
        return [
            asked.join(rows, on=by, how="left", maintain_order="left").select(FINDING, ROW)
            for rows in self._rows[table.name]
        ]

    def of_rule(self, part: pl.DataFrame, key: str) -> Iterator[pl.DataFrame]:
        """The cells of findings of one rule."""
        before, after = self.sides
        demand = after.demands.get(key) or before.demands.get(key)
        if not isinstance(demand, Rule):
            return
        used = columns_used((demand.table, expression) for expression in demand.expressions)
        table = TABLES[demand.table]
        rows = self.located(table, part)
        there = [frame[ROW].is_not_null() for frame in rows]
        if table is not ACCOUNT:
            yield _appeared(part, there, table)
        both = [frame.filter(there[0] & there[1]) for frame in rows]
        yield from self._compared(table, used.get(table.name, set()), both, "")
        if table is ACCOUNT or table.of_account:
            yield from self._of_account(part, table, used)

    def _of_account(
        self, part: pl.DataFrame, table: Table, used: dict[str, set[str]]
    ) -> Iterator[pl.DataFrame]:
        """Changes of the account, of its person, and of what else belongs to it."""
        accounts = self.located(ACCOUNT, part.with_columns(pl.lit("").alias(ROW_KEY)))
        there = [frame[ROW].is_not_null() for frame in accounts]
        yield _appeared(part, there, ACCOUNT)
        both = [frame.filter(there[0] & there[1]) for frame in accounts]
        if table is not ACCOUNT:
            yield from self._compared(ACCOUNT, used.get(ACCOUNT.name, set()), both, "account ")
        if PERSON.name in used:
            owners = [
                frame[PERSON_ROW].gather(side[ROW]).cast(pl.UInt32)
                for frame, side in zip(self.frames(ACCOUNT), both, strict=True)
            ]
            known = owners[0].is_not_null() & owners[1].is_not_null()
            people = [
                frame.with_columns(own.alias(ROW)).filter(known)
                for frame, own in zip(both, owners, strict=True)
            ]
            yield from self._compared(PERSON, used[PERSON.name], people, "person ")
        for name in used:
            child = TABLES[name]
            if child.of_account and child is not table:
                yield from self._of_children(child, used[name], both)

    def _compared(
        self, table: Table, columns: set[str], rows: list[pl.DataFrame], prefix: str
    ) -> Iterator[pl.DataFrame]:
        """The facts that are another on the two sides, of rows that stand beside each other."""
        frames = self.frames(table)
        sources = frames[1][source_column(table)].cast(pl.String).gather(rows[1][ROW])
        for column in table.columns:
            if column.name in columns and all(column.name in frame.columns for frame in frames):
                was, now = (
                    _in_words(frame[column.name].gather(side[ROW]), column.kind, self.clock)
                    for frame, side in zip(frames, rows, strict=True)
                )
                pair = (
                    rows[1]
                    .select(FINDING)
                    .with_columns(was.alias("old"), now.alias("new"), sources.alias("source"))
                )
                yield _differing(pair, pl.lit(prefix + column.name))

    def _of_children(
        self, child: Table, columns: set[str], accounts: list[pl.DataFrame]
    ) -> Iterator[pl.DataFrame]:
        """The rows of an account that came, went, or have other facts."""
        if child.name not in self._children:
            self._children[child.name] = [
                self._rows_of(child, side, rows)
                for side, rows in zip(self.sides, self._rows[ACCOUNT.name], strict=True)
            ]
        sides = [
            frame.select(FINDING, pl.col(ROW).alias(ACCOUNT_ROW)).join(rows, on=ACCOUNT_ROW, how="inner")
            for frame, rows in zip(accounts, self._children[child.name], strict=True)
        ]
        by = [FINDING, ROW_KEY]
        there = pl.lit("there"), pl.lit(None, dtype=pl.String)
        for place, (mine, other) in enumerate(((sides[0], sides[1]), (sides[1], sides[0]))):
            alone = mine.join(other, on=by, how="anti", maintain_order="left")
            yield _cells(alone, pl.col("named"), there[place], there[1 - place])
        pairs = sides[0].join(sides[1], on=by, how="inner", suffix="-now", maintain_order="left")
        frames = self.frames(child)
        for column in child.columns:
            if column.name in columns and all(column.name in frame.columns for frame in frames):
                was, now = (
                    _in_words(frame[column.name].gather(pairs[places]), column.kind, self.clock)
                    for frame, places in zip(frames, ("child-row", "child-row-now"), strict=True)
                )
                pair = pairs.with_columns(was.alias("old"), now.alias("new"))
                yield _differing(pair, pl.format("{}: " + column.name, "named-now"))

    def _rows_of(self, child: Table, side: Side, accounts: pl.DataFrame) -> pl.DataFrame:
        """Of the accounts that are asked about, the rows of a table: their keys, names and sources."""
        own = side.identities.judgement.context.frames[child.name]
        keyed = side.identities.of_table(child.name).select(ROW_KEY).hstack(own.select(ACCOUNT_ROW))
        mine = keyed.with_row_index("child-row").join(
            accounts.select(pl.col(ROW).alias(ACCOUNT_ROW)), on=ACCOUNT_ROW, how="semi"
        )
        rows = own[mine["child-row"]]
        known = [name for name in own.columns if name in named_by(child)]
        called = row_name(child, known, self.clock).fill_null("")
        named = pl.when(called == "").then(pl.lit(child.name)).otherwise(called)
        source = pl.col(source_column(child)).cast(pl.String)
        return mine.hstack(rows.select(named.alias("named"), source.alias("source")))


def _appeared(part: pl.DataFrame, there: list[pl.Series], table: Table) -> pl.DataFrame:
    """A row that is there on one side alone is what changed; of what was not seen, nobody knew before."""
    alone = part.select(FINDING, "source", "was").with_columns(there[0].alias("old"), there[1].alias("new"))
    old, new = (pl.when(name).then(pl.lit("there")) for name in ("old", "new"))
    unseen = pl.when(pl.col("was") == str(State.NOT_SEEN)).then(pl.lit("not known"))
    was = unseen.otherwise(old)
    return _cells(alone.filter(pl.col("old") != pl.col("new")), pl.lit(f"the {table.name}"), was, new)


def _differing(pair: pl.DataFrame, what: pl.Expr) -> pl.DataFrame:
    """The cells of what is another on the two sides, `old` and `new`."""
    old, new = (pl.col(name).fill_null("not known") for name in ("old", "new"))
    return _cells(pair.filter(pl.col("old").ne_missing(pl.col("new"))), what, old, new)


def _cells(frame: pl.DataFrame, what: pl.Expr, was: pl.Expr, now: pl.Expr) -> pl.DataFrame:
    return frame.select(
        FINDING,
        what.alias("what"),
        was.cast(pl.String).alias("was"),
        now.cast(pl.String).alias("is"),
        "source",
    )


def _in_words(values: pl.Series, kind: Kind, clock: ZoneInfo) -> pl.Series:
    """Values as people read them, an instant in the estate's clock."""
    match kind:
        case Kind.FLAG:
            return values.replace_strict({True: "yes", False: "no"}, default=None, return_dtype=pl.String)
        case Kind.INSTANT:
            return values.dt.convert_time_zone(clock.key).dt.strftime("%Y-%m-%d %H:%M")
        case Kind.SPAN:
            return values.dt.to_string("iso")
        case Kind.WORDS:
            return values.list.sort().list.join(", ")
        case _:
            return values.cast(pl.String)
