"""What exactly changed where a finding changed its state: which fact, limit, term or entry, and how."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from zoneinfo import ZoneInfo

import polars as pl

from keymallet.core.evaluating.context import columns_used
from keymallet.core.explaining.row_names import named_by, row_name
from keymallet.core.explaining.wording import constant_text
from keymallet.core.facts.declaration import ACCOUNT, PERSON, TABLES
from keymallet.core.facts.evidence import ACCOUNT_ROW, PERSON_ROW, source_column
from keymallet.core.facts.model import Kind, Table
from keymallet.core.history.identity import (
    ACCOUNT_KEY,
    FINDING,
    ROW,
    ROW_KEY,
    RULE_KEY,
    Identities,
    rule_keys,
)
from keymallet.core.history.states import Cause
from keymallet.core.judging.exemptions import covers_rule
from keymallet.core.language import typed
from keymallet.core.language.typed import limit_of
from keymallet.core.rulebook.model import Demand, Rule, Rulebook, Tally
from keymallet.core.rulebook.register import Register

CHANGED = pl.List(pl.Struct({"what": pl.String, "was": pl.String, "is": pl.String, "source": pl.String}))
"""What changed: its name, what it was and what it is (null where it was or is not there), and its source."""

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


def details(transitions: pl.DataFrame, before: Side, after: Side, clock: ZoneInfo) -> pl.Series:
    """For each transition what changed, as CHANGED; empty where its cause says all there is to say."""
    parts = [_NO_CELLS]
    for (cause, key), part in transitions.group_by("cause", RULE_KEY, maintain_order=True):
        if cause in (Cause.FACTS, Cause.UNKNOWN, Cause.NOT_READ):
            parts += _of_facts(part, str(key), before, after, clock)
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


def _demand(book: Rulebook, key: str) -> Demand | None:
    called = rule_keys(book)
    return next((each for each in book.demands if called[each.id] == key), None)


def _of_rule(key: str, before: Side, after: Side) -> Iterator[tuple[str, str | None, str | None]]:
    """What changed in a rule: it is new or gone, or its limits, terms, its text, or the file it stands in."""
    old, new = (_demand(side.rulebook, key) for side in (before, after))
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


def _of_facts(
    part: pl.DataFrame, key: str, before: Side, after: Side, clock: ZoneInfo
) -> Iterable[pl.DataFrame]:
    demand = _demand(after.rulebook, key) or _demand(before.rulebook, key)
    if not isinstance(demand, Rule):
        return
    used = columns_used((demand.table, expression) for expression in demand.expressions)
    table = TABLES[demand.table]
    rows = [
        side.identities.located(table.name, part.select(FINDING, ACCOUNT_KEY, ROW_KEY))
        for side in (before, after)
    ]
    there = [frame[ROW].is_not_null() for frame in rows]
    if table is not ACCOUNT:
        # A row that is there on one side alone is what changed.
        alone = part.select(FINDING, "source").with_columns(there[0].alias("old"), there[1].alias("new"))
        alone = alone.filter(pl.col("old") != pl.col("new"))
        yield _cells(
            alone,
            pl.lit(f"the {table.name}"),
            pl.when("old").then(pl.lit("there")),
            pl.when("new").then(pl.lit("there")),
        )
    both = [frame.filter(there[0] & there[1]) for frame in rows]
    yield from _compared(table, used.get(table.name, set()), both, before, after, clock, "")
    if table is ACCOUNT or table.of_account:
        yield from _of_account(part, table, used, before, after, clock)


def _of_account(
    part: pl.DataFrame, table: Table, used: dict[str, set[str]], before: Side, after: Side, clock: ZoneInfo
) -> Iterable[pl.DataFrame]:
    """Changes of the account, of its person, and of what else belongs to it."""
    asked = part.select(FINDING, ACCOUNT_KEY, pl.lit("").alias(ROW_KEY))
    accounts = [side.identities.located(ACCOUNT.name, asked) for side in (before, after)]
    there = [frame[ROW].is_not_null() for frame in accounts]
    alone = part.select(FINDING, "source").with_columns(there[0].alias("old"), there[1].alias("new"))
    alone = alone.filter(pl.col("old") != pl.col("new"))
    yield _cells(
        alone,
        pl.lit("the account"),
        pl.when("old").then(pl.lit("there")),
        pl.when("new").then(pl.lit("there")),
    )
    both = [frame.filter(there[0] & there[1]) for frame in accounts]
    if table is not ACCOUNT:
        yield from _compared(ACCOUNT, used.get(ACCOUNT.name, set()), both, before, after, clock, "account ")
    if PERSON.name in used:
        people = [_people(side, frame) for side, frame in zip((before, after), both, strict=True)]
        known = people[0][ROW].is_not_null() & people[1][ROW].is_not_null()
        both_people = [frame.filter(known) for frame in people]
        yield from _compared(PERSON, used[PERSON.name], both_people, before, after, clock, "person ")
    for name in used:
        child = TABLES[name]
        if child.of_account and child is not table:
            yield from _of_children(child, used[name], both, before, after, clock)


def _people(side: Side, accounts: pl.DataFrame) -> pl.DataFrame:
    rows = side.identities.judgement.context.frames[ACCOUNT.name][PERSON_ROW].gather(accounts[ROW])
    return accounts.with_columns(rows.cast(pl.UInt32).alias(ROW))


def _compared(
    table: Table,
    columns: set[str],
    rows: list[pl.DataFrame],
    before: Side,
    after: Side,
    clock: ZoneInfo,
    prefix: str,
) -> Iterable[pl.DataFrame]:
    """The facts that are another on the two sides, of rows that stand beside each other."""
    frames = [side.identities.judgement.context.frames[table.name] for side in (before, after)]
    sources = frames[1][source_column(table)].cast(pl.String).gather(rows[1][ROW])
    for column in table.columns:
        if column.name not in columns or not all(column.name in frame.columns for frame in frames):
            continue
        was, now = (
            _in_words(frame[column.name].gather(side[ROW]), column.kind, clock)
            for frame, side in zip(frames, rows, strict=True)
        )
        pair = (
            rows[1].select(FINDING).with_columns(was.alias("old"), now.alias("new"), sources.alias("source"))
        )
        yield _cells(
            pair.filter(pl.col("old").ne_missing(pl.col("new"))),
            pl.lit(prefix + column.name),
            pl.col("old").fill_null("not known"),
            pl.col("new").fill_null("not known"),
        )


def _of_children(
    child: Table, columns: set[str], accounts: list[pl.DataFrame], before: Side, after: Side, clock: ZoneInfo
) -> Iterable[pl.DataFrame]:
    """The rows of an account that came, went, or have other facts."""
    sides = []
    for side, frame in zip((before, after), accounts, strict=True):
        own = side.identities.judgement.context.frames[child.name]
        keyed = side.identities.of_table(child.name).select(ROW_KEY).hstack(own.select(ACCOUNT_ROW))
        known = [name for name in own.columns if name in named_by(child)]
        called = row_name(child, known, clock).fill_null("")
        named = own.select(pl.when(called == "").then(pl.lit(child.name)).otherwise(called).alias("named"))
        rows = keyed.hstack(named).with_row_index("child-row")
        mine = frame.select(FINDING, pl.col(ROW).alias(ACCOUNT_ROW)).join(rows, on=ACCOUNT_ROW, how="inner")
        sides.append(
            mine.with_columns(
                own[source_column(child)].cast(pl.String).gather(mine["child-row"]).alias("source")
            )
        )
    by = [FINDING, ROW_KEY]
    for place, (mine, other) in enumerate(((sides[0], sides[1]), (sides[1], sides[0]))):
        alone = mine.join(other, on=by, how="anti", maintain_order="left")
        there = pl.lit("there"), pl.lit(None, dtype=pl.String)
        yield _cells(alone, pl.col("named"), there[place], there[1 - place])
    pairs = sides[0].join(sides[1], on=by, how="inner", suffix="-now", maintain_order="left")
    frames = [side.identities.judgement.context.frames[child.name] for side in (before, after)]
    for column in child.columns:
        if column.name in columns and all(column.name in frame.columns for frame in frames):
            was = _in_words(frames[0][column.name].gather(pairs["child-row"]), column.kind, clock)
            now = _in_words(frames[1][column.name].gather(pairs["child-row-now"]), column.kind, clock)
            pair = pairs.with_columns(was.alias("old"), now.alias("new"))
            yield _cells(
                pair.filter(pl.col("old").ne_missing(pl.col("new"))),
                pl.format("{}: " + column.name, "named-now"),
                pl.col("old").fill_null("not known"),
                pl.col("new").fill_null("not known"),
            )


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
