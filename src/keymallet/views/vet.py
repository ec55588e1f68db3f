"""What vetting found, for people: how many rows are ready, what is wrong, and row by row why."""

from __future__ import annotations

from itertools import groupby
from operator import itemgetter
from typing import Any
from zoneinfo import ZoneInfo

import polars as pl
from rich.console import Console
from rich.padding import Padding
from rich.text import Text

from keymallet.core.base.listing import and_more, how_many, shortened, some_names
from keymallet.core.rulebook.model import SEVERITIES
from keymallet.core.vetting.remarks import facts_named
from keymallet.core.vetting.vetting import CELLS, MOST_FIRST_DAYS, Result, Vetted
from keymallet.views.plain_table import PlainTable
from keymallet.views.terminal import SEVERITY_STYLES, moment, plain_grid, text

RULES_SHOWN = 8
LONGEST_NAME = 60
_STYLES = {Result.READY: "green", Result.FIX_FIRST: "red", Result.CANNOT_TELL: "yellow"}


def show_vetted(out: Console, vetted: Vetted, organisation: str, clock: ZoneInfo, most: int) -> None:
    """Print how the batch came out; `most` rows one by one, those that have to be fixed first."""
    batch = vetted.batch
    rows = how_many(vetted.rows, "planned account")
    title = f"{organisation}: {rows} for {batch.target.source} as of {moment(vetted.at, clock)}"
    out.print(text(title, "bold"))
    _show_results(out, vetted)
    if vetted.found.height:
        out.print()
        _show_rules(out, vetted)
        out.print()
        _show_rows(out, vetted, most)
    _show_unread(out, vetted)
    if not vetted.has_rules_on_planned:
        hint = 'include = ["new-accounts"] in it adds those that ship'
        _incomplete(out, f"the rulebook has no rule on planned accounts; {hint}")
    if vetted.first_days > MOST_FIRST_DAYS:
        days = f"rows begin on {vetted.first_days:,} days"
        said = f"{days}: each is judged on the next of {MOST_FIRST_DAYS} of them"
        out.print(Padding(text(said, "dim"), (0, 0, 0, 2), expand=False))
    if not vetted.rows:
        _incomplete(out, f"{batch.file} has no row")
    _show_open(out, vetted)
    out.print()


def _incomplete(out: Console, why: str) -> None:
    out.print(Padding(text(f"incomplete: {why}", "yellow"), (0, 0, 0, 2), expand=False))


def _show_results(out: Console, vetted: Vetted) -> None:
    line = Text("  ")
    for result in (Result.READY, Result.FIX_FIRST, Result.CANNOT_TELL):
        number = vetted.number(result)
        line.append(" · " if len(line) > 2 else "", "dim")
        line.append(f"{number:,} {result.words}", _STYLES[result] if number else "dim")
    out.print(line)


def _show_rules(out: Console, vetted: Vetted) -> None:
    counted = (
        vetted.found.with_columns(pl.col("verdict", "severity").cast(pl.String), vetted.found_rows)
        .group_by("rule", "title", "severity", "verdict", maintain_order=True)
        .agg(pl.col(vetted.found_rows.name).n_unique().alias("rows"))
    )
    graded = sorted(
        counted.iter_rows(named=True),
        key=lambda row: (row["verdict"] == "unproven", -SEVERITIES[row["severity"]], -row["rows"]),
    )
    table = PlainTable()
    table.add_column("rows", justify="right")
    table.add_column("severity")
    table.add_column("what has to hold", ratio=1)
    for row in graded[:RULES_SHOWN]:
        severity = SEVERITIES[row["severity"]]
        open_ = row["verdict"] == "unproven"
        said = text(row["title"]).append_text(text(" · not known" if open_ else "", "yellow"))
        table.add_row(f"{row['rows']:,}", Text(row["severity"], SEVERITY_STYLES[severity]), said)
    out.print(table)
    if len(graded) > RULES_SHOWN:
        out.print(text(f"  {and_more(len(graded) - RULES_SHOWN, 'rule')}: --format csv has them all", "dim"))


def _show_rows(out: Console, vetted: Vetted, most: int) -> None:
    worst = _worst_rows(vetted)
    shown = worst.head(most)
    rank = {place: number for number, place in enumerate(shown)}
    numbered = vetted.found.with_columns(vetted.found_rows.alias("place")).filter(
        pl.col("place").is_in(shown.implode())
    )
    told = numbered.with_columns(pl.col("verdict", "severity").cast(pl.String)).iter_rows(named=True)
    by_row = [(place, list(rows)) for place, rows in groupby(told, key=itemgetter("place"))]
    by_row.sort(key=lambda each: rank[each[0]])
    for place, found in by_row:
        name = vetted.batch.written[place]
        result = Result(vetted.results[place])
        head = Text().append_text(text(f"line {vetted.batch.lines[place]}", "dim")).append("  ")
        head.append_text(text(shortened(name or "no login name", LONGEST_NAME), "bold"))
        head.append("  ").append(result.words, _STYLES[result])
        out.print(head)
        grid = plain_grid(8, None)
        for row in sorted(found, key=lambda row: -SEVERITIES[row["severity"]]):
            if row["verdict"] != "unproven":
                severity = SEVERITIES[row["severity"]]
                grid.add_row(Text(row["severity"], SEVERITY_STYLES[severity]), _said(row))
        if unknown := [row for row in found if row["verdict"] == "unproven"]:
            grid.add_row(Text("", "dim"), _unknown(unknown, vetted))
        out.print(Padding(grid, (0, 0, 0, 2), expand=False))
    if len(worst) > most:
        more = and_more(len(worst) - most, "row")
        out.print(text(f"{more} not ready: --all shows them", "dim"))


def _worst_rows(vetted: Vetted) -> pl.Series:
    """The rows that something is told of: those to be fixed first, and of these the gravest."""
    grades = {severity.word: int(severity) for severity in SEVERITIES.values()}
    broken = pl.col("verdict").cast(pl.String) == "breach"
    graded = vetted.found.select(
        place=vetted.found_rows,
        broken=broken,
        grade=pl.col("severity").cast(pl.String).replace_strict(grades, return_dtype=pl.Int64),
    )
    by_row = graded.group_by("place").agg(
        pl.col("broken").any(), worst=pl.col("grade").filter("broken").max(), other=pl.col("grade").max()
    )
    order = by_row.sort(["broken", pl.coalesce("worst", "other"), -pl.col("place")], descending=True)
    return order["place"]


def _said(row: dict[str, object]) -> Text:
    cells = row[CELLS]
    assert isinstance(cells, list)
    line = Text().append_text(text(f"{' + '.join(cells)}: " if cells else "", "bold"))
    line.append_text(text(row["because"]))
    return line.append("\n").append_text(text(row["advice"], "dim"))


def _unknown(rows: list[dict[str, Any]], vetted: Vetted) -> Text:
    """What is not known of a row, and how many rules rest on it."""
    missing = [fact for row in rows for fact in row["missing"] or ()]
    facts = some_names(list(dict.fromkeys(facts_named(missing, vetted.batch))), 6)
    rules = "1 rule rests" if len(rows) == 1 else f"{len(rows):,} rules rest"
    return text(f"not known: {facts}; {rules} on it", "yellow")


def _show_unread(out: Console, vetted: Vetted) -> None:
    lines = [
        *((each, "not read") for each in vetted.refused),
        *((each, "unknown") for each in vetted.batch.unreadable),
    ]
    for refusal, what in lines[:5]:
        column = f', "{refusal.column}"' if refusal.column else ""
        out.print(text(f"  {refusal.file} line {refusal.lines}{column}: {what}: {refusal.reason}", "yellow"))
    if len(lines) > 5:
        out.print(text(f"  {and_more(len(lines) - 5)} that could not be read", "yellow"))


def _show_open(out: Console, vetted: Vetted) -> None:
    if not vetted.open:
        return
    missing = sorted({fact for facts in vetted.open.values() for fact in facts})
    number = how_many(len(vetted.open), "rule")
    said = f"not judged: {number}, for want of {some_names(missing, 8)}: {some_names(list(vetted.open), 4)}"
    out.print()
    out.print(Padding(text(said, "yellow"), (0, 0, 0, 2), expand=False))
