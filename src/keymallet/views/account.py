"""One account: its facts and where each comes from, its dates, its ways in, each verdict and why."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from datetime import datetime
from typing import Any
from zoneinfo import ZoneInfo

import polars as pl
from rich.console import Console
from rich.padding import Padding
from rich.text import Text

from keymallet.core.base.listing import and_more, how_many, some_names
from keymallet.core.evaluating.context import EvaluationContext
from keymallet.core.explaining.unlocking import Unlocker
from keymallet.core.explaining.ways_in import Facts, ways_in
from keymallet.core.facts import wording
from keymallet.core.facts.declaration import ACCOUNT, FACTOR, KEY, PERSON, SIGN_IN, WAY_IN, tables_of_account
from keymallet.core.facts.evidence import UNREAD
from keymallet.core.facts.model import Column, Kind, Table
from keymallet.core.facts.phrases import FORMS
from keymallet.core.facts.tables.columns import FOR_CHANGES
from keymallet.core.language import typed
from keymallet.core.language.check import definition
from keymallet.core.rulebook.model import SEVERITIES
from keymallet.views.plain_table import PlainTable
from keymallet.views.terminal import (
    SEVERITY_STYLES,
    VERDICT_STYLES,
    lasting,
    moment,
    plain_grid,
    text,
)
from keymallet.views.ways import show_unlockers, show_ways

_HEADLINE = ("display", "kind", "unit", "title", "mail")
MOST_ELSEWHERE = 6
_HIDDEN = {"account", "source", "name"}


def show_account(
    out: Console,
    context: EvaluationContext,
    verdicts: pl.DataFrame,
    elsewhere: list[str],
    topics: Mapping[str, Sequence[str]],
    most: int | None = None,
    unlocked_by: Sequence[Unlocker] | None = None,
) -> None:
    """Print everything on the one account that `context` is about.

    `elsewhere` are the person's other accounts, `topics` the account's part in each topic. With `most`, only
    how it gets in and so many of its breaches, with what to do; what else there is is named. `unlocked_by`
    says who may unlock it, if it is locked.
    """
    frame = known_facts(context, ACCOUNT)
    row = frame.row(0, named=True)
    out.print(text(row["account"], "bold"))
    out.print(text(" · ".join(str(row[name]) for name in _HEADLINE if row[name] is not None)))
    person = _person(context, row)
    if person:
        out.print(text(person, "dim"))
    if elsewhere:
        out.print(text(f"the same person: {some_names(elsewhere, MOST_ELSEWHERE)}", "dim"))
    out.print()
    _show_ways_in(out, context, row)
    if unlocked_by is not None:
        show_unlockers(out, unlocked_by)
    if most is not None:
        _show_breaches(out, context, verdicts, most)
        _show_left_out(out, context)
        return
    _show_topics(out, topics)
    _show_verdicts(out, context, verdicts)
    _show_facts(out, context, row)
    _show_dates(out, context, row)
    for table in tables_of_account():
        if table is not WAY_IN:
            _show_rows(out, context, table)


def _show_breaches(out: Console, context: EvaluationContext, verdicts: pl.DataFrame, most: int) -> None:
    out.print()
    _heading(out, _counts(verdicts))
    broken = verdicts.filter(pl.col("verdict").is_in(["breach", "pending"]))
    grid = plain_grid(10, None)
    for row in broken.head(most).iter_rows(named=True):
        said = text(row["title"])
        about = f" [{row['subject']}]" if row["subject"] else ""
        said.append_text(text(f"{about}: {row['because']}", "dim"))
        lasts = lasting(row, context.at, context.clock)
        said.append_text(text(f" · {lasts}" if lasts else "", "dim italic"))
        said.append("\n").append_text(text(f"to do: {row['change']}"))
        severity = SEVERITIES[row["severity"]]
        grid.add_row(Text(f"  {row['severity']}", SEVERITY_STYLES[severity]), said)
    if broken.height:
        out.print(grid)
    if broken.height > most:
        _aside(out, and_more(broken.height - most, "breach", "breaches"))


def _show_left_out(out: Console, context: EvaluationContext) -> None:
    """Name what there is besides, and how much."""
    parts = ["the other verdicts", "facts and dates"]
    for table in tables_of_account():
        number = context.frames[table.name].height
        if number and table is not WAY_IN:
            parts.append(how_many(number, *table.said.split(FORMS)))
    _aside(out, f"not shown here: {', '.join(parts)} (--all)")


def _counts(verdicts: pl.DataFrame) -> str:
    """How many verdicts of each kind there are."""
    counted = Counter(verdicts["verdict"])
    kinds = [
        verdict for verdict in VERDICT_STYLES if counted[verdict] or verdict not in ("pending", "exempt")
    ]
    return f"verdicts: {', '.join(f'{counted[verdict]} {verdict}' for verdict in kinds)}"


def _show_topics(out: Console, topics: Mapping[str, Sequence[str]]) -> None:
    out.print()
    _heading(out, "in short")
    grid = plain_grid(12, None)
    for topic, sentences in topics.items():
        for number, sentence in enumerate(sentences):
            grid.add_row(text(f"  {topic}" if number == 0 else "", "dim"), text(sentence))
    out.print(grid)


def _person(context: EvaluationContext, row: dict[str, Any]) -> str:
    """Whose account it is by the roster, in one line; empty where that is not known."""
    people = context.frames[PERSON.name]
    if row["on-roster"] is False and row["kind"] == "person":
        whose = f"number {row['person']}" if row["person"] else "nobody is known to hold it"
        return f"not on the roster: {whose}"
    if not people.height or not row["on-roster"]:
        return ""
    known = people.row(0, named=True)
    parts = [known["name"], known["unit"], known["contract"], known["status"]]
    described = " · ".join(str(part) for part in parts if part is not None)
    return f"person {known['person']} on the roster: {described} (tied by {row['tied-by']})"


def _show_ways_in(out: Console, context: EvaluationContext, row: dict[str, Any]) -> None:
    supply, clock = context.evidence.supply[row["source"]], context.clock

    def rows(table: Table) -> list[Facts]:
        known = known_facts(context, table).iter_rows(named=True)
        return [Facts(row, supply.get(table.name, ()), row.get(UNREAD) or ()) for row in known]

    account = Facts(row, supply.get(ACCOUNT.name, ()), row.get(UNREAD) or ())
    ways = ways_in(
        account, rows(WAY_IN), rows(KEY), rows(FACTOR), context.at, lambda instant: moment(instant, clock)
    )
    show_ways(out, ways, clock)


def known_facts(context: EvaluationContext, table: Table) -> pl.DataFrame:
    """The table's facts as they are judged: derived ones worked out."""
    nodes: list[typed.Typed] = []
    for column in table.columns:
        fact = typed.Fact(typed.ValueType(column.kind, column.words), column.name, table.name, column)
        nodes.append(
            typed.Derived(fact.type, column.name, fact, definition(column, table))
            if column.definition
            else fact
        )
    answers = context.work_out(table.name, nodes)
    named = [answer.alias(column.name) for answer, column in zip(answers, table.columns, strict=True)]
    frame = pl.DataFrame(named)
    unread = context.frames[table.name]
    return frame.hstack([unread[UNREAD]]) if UNREAD in unread.columns else frame


def _show_facts(out: Console, context: EvaluationContext, row: dict[str, Any]) -> None:
    source = row["source"]
    supply = context.evidence.supply[source].get("account", {})
    unread = set(row.get(UNREAD) or ())
    out.print()
    _heading(out, "facts")
    grid = plain_grid(32, 26, None)
    missing = []
    for column in ACCOUNT.columns:
        if column.name in _HIDDEN or column.kind is Kind.INSTANT:
            continue
        value = row[column.name]
        if value is None and column.name not in supply and column.name not in unread:
            missing += [] if column.across or column in FOR_CHANGES else [column.name]
            continue
        doubt = "not known" if column.across else "unreadable"
        shown = doubt if column.name in unread else _value(value, column, context.clock)
        grid.add_row(
            f"  {column.name}",
            text(shown, "dim" if value is None else ""),
            text(_origin(column, supply), "dim"),
        )
    out.print(grid)
    missing += [
        column.name for column in ACCOUNT.columns if column.kind is Kind.INSTANT and column.name not in supply
    ]
    if missing:
        _aside(out, f"not supplied by {source}: {', '.join(missing)}")


def _origin(column: Column, supply: dict[str, str]) -> str:
    return supply.get(column.name) or ("worked out" if column.definition else "")


def _value(value: Any, column: Column, clock: ZoneInfo) -> str:
    if value is None:
        return "none" if column.kind in (Kind.TEXT, Kind.INSTANT) else "unknown"
    series = pl.Series([value], dtype=pl.List(pl.String) if column.kind is Kind.WORDS else None)
    return str(wording.values(series, column.kind, clock)[0])


def _show_dates(out: Console, context: EvaluationContext, row: dict[str, Any]) -> None:
    """All dates on one line of time: the account's, its rows', and the instant judged at among them."""
    supply = context.evidence.supply[row["source"]].get("account", {})
    dated: list[tuple[datetime, str, str]] = [(context.at, "judged at", "")]
    none = []
    for column in ACCOUNT.columns:
        if column.kind is not Kind.INSTANT:
            continue
        if row[column.name] is not None:
            dated.append((row[column.name], column.name, supply.get(column.name, "")))
        elif column.name in supply:
            none.append(column.name)
    for table in tables_of_account():
        if table not in (SIGN_IN, WAY_IN):
            dated += _row_dates(context, table)
    out.print()
    _heading(out, "dates")
    grid = plain_grid(18, 12, 20, None)
    for instant, name, origin in sorted(dated):
        now = name == "judged at"
        ago = "" if now else _ago(context.at, instant)
        shown = f"  {moment(instant, context.clock)}"
        grid.add_row(Text(shown), Text(ago, "dim"), text(name, "bold" if now else ""), text(origin, "dim"))
    out.print(grid)
    if none:
        _aside(out, f"none on record: {', '.join(none)}")


def _row_dates(context: EvaluationContext, table: Table) -> list[tuple[datetime, str, str]]:
    """The dates of an account's factors, keys and so on, each with the row it is of."""
    dates = []
    instants = [column.name for column in table.columns if column.kind is Kind.INSTANT]
    for row in context.frames[table.name].iter_rows(named=True):
        which = " ".join(str(row[name]) for name in table.label if row[name] is not None)
        dates += [(row[name], name, f"{table.name} {which}") for name in instants if row[name] is not None]
    return dates


def _ago(at: datetime, instant: datetime) -> str:
    return str(wording.ago(pl.Series([at - instant], dtype=pl.Duration("us")))[0])


def _show_rows(out: Console, context: EvaluationContext, table: Table) -> None:
    if table.name not in {name for supplied in context.evidence.supply.values() for name in supplied}:
        return
    source = str(context.frames["account"]["source"][0])
    out.print()
    if table.name not in context.evidence.supply[source]:
        _heading(out, f"{table.name}s: not supplied by {source}")
        return
    rows = known_facts(context, table)
    columns = [column for column in table.columns[1:] if rows[column.name].null_count() < rows.height]
    if rows.height and not columns:
        _heading(out, f"{table.name}s: not known for this account")
        return
    _heading(out, how_many(rows.height, table.name) if rows.height else f"no {table.name}")
    shown = [
        [_value(row[column.name], column, context.clock) for column in columns]
        for row in rows.iter_rows(named=True)
    ]
    widths = [
        max(len(column.name), *(len(row[place]) for row in shown)) + 2 for place, column in enumerate(columns)
    ]
    if sum(widths) + 2 <= out.width:
        _rows_as_table(out, columns, shown)
    else:
        _rows_as_blocks(out, table, columns, shown)


def _rows_as_table(out: Console, columns: list[Column], shown: list[list[str]]) -> None:
    grid = PlainTable()
    grid.add_column("")
    for column in columns:
        grid.add_column(column.name, overflow="fold")
    for row in shown:
        grid.add_row("", *map(text, row))
    if shown:
        out.print(grid)


def _rows_as_blocks(out: Console, table: Table, columns: list[Column], shown: list[list[str]]) -> None:
    """Rows too wide for a table: what tells them apart on a line, the rest beneath it."""
    for row in shown:
        values = dict(zip((column.name for column in columns), row, strict=True))
        out.print(
            Padding(text(" ".join(values.pop(name) for name in table.label if name in values)), (0, 0, 0, 2))
        )
        # A digest that is the key's own id is not said again.
        notes = [f"{name} {value}" for name, value in values.items() if value not in ("none", row[0])]
        out.print(Padding(text(" · ".join(notes), "dim"), (0, 0, 0, 6), expand=False))


def _show_verdicts(out: Console, context: EvaluationContext, verdicts: pl.DataFrame) -> None:
    out.print()
    _heading(out, _counts(verdicts))
    grid = plain_grid(10, 10, None)
    for row in verdicts.iter_rows(named=True):
        verdict, severity = row["verdict"], row["severity"]
        met = verdict == "met"
        said = text(row["title"], "dim" if met else "")
        if row["subject"]:
            said.append_text(text(f" [{row['subject']}]", "dim"))
        why = row["because"] or ", ".join(row["missing"])
        if why:
            said.append("\n").append_text(text(("not known: " if verdict == "unproven" else "") + why, "dim"))
        lasts = lasting(row, context.at, context.clock)
        if row["exemption"]:
            entries = ", ".join(row["exemption"])
            said.append("\n").append_text(text(f"exempt by {entries} (keymallet exempt list)", "blue"))
        if lasts:
            said.append(" " if met else "\n").append_text(text(lasts, "dim"))
        if row["change"]:
            said.append("\n").append_text(text(f"to do: {row['change']}"))
        if verdict in ("breach", "pending") and row["advice"]:
            said.append("\n").append_text(text(row["advice"], "italic"))
        style = "dim" if met else SEVERITY_STYLES[SEVERITIES[severity]]
        grid.add_row(Text(f"  {verdict}", VERDICT_STYLES[verdict]), Text(severity, style), said)
    out.print(grid)


def _aside(out: Console, words: str) -> None:
    out.print(Padding(text(words, "dim"), (0, 0, 0, 2), expand=False))


def _heading(out: Console, words: str) -> None:
    out.print(text(words, "bold"))
