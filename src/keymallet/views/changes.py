"""What changed between two runs, on the terminal: numbers, then each kind of change, the worst first."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import timedelta
from typing import Any
from zoneinfo import ZoneInfo

import polars as pl
from rich.console import Console
from rich.table import Table
from rich.text import Text

from keymallet.core.base.listing import and_more, how_many, some_names
from keymallet.core.history.moves import Moves
from keymallet.core.history.states import BROKEN, Cause, State
from keymallet.core.rulebook.model import SEVERITIES
from keymallet.store.logbook.records import RunLine
from keymallet.views.history import ENDED_OTHERWISE, PAST_DUE, STATE_STYLES, show_failed, sums
from keymallet.views.plain_table import PlainTable
from keymallet.views.terminal import SEVERITY_STYLES, day, moment, show_hints, stretch, text

ROWS_IN_SHORT = 3
_DETAILS_IN_SHORT = 1
_GROUPS_IN_SHORT = 12


@dataclass(frozen=True)
class Compared:
    """Two runs, and everything that is known of what changed between them."""

    start: RunLine
    end: RunLine
    changes: pl.DataFrame
    late: pl.DataFrame
    passing: int
    failed: Sequence[RunLine]
    moves: Moves | None
    clock: ZoneInfo
    evidence_older_by: timedelta = timedelta()
    """By how much the later run's evidence is older than that of the earlier one; nothing if it is newer."""


def in_breach(states: dict[str, int]) -> int:
    """How many findings are in breach, of the numbers by state."""
    return sum(states.get(state, 0) for state in BROKEN)


_SECTIONS: tuple[tuple[str, tuple[State, ...], str], ...] = (
    ("new", (State.NEW,), "keymallet findings ID tells the life of one"),
    ("back", (State.BACK,), "had ended before"),
    ("exemption ended", (State.EXEMPTION_ENDED,), "nothing covers them any longer"),
    ("not seen", (State.NOT_SEEN,), "not mended: nobody can tell"),
    ("mended", (State.MENDED,), ""),
    ("ended otherwise", ENDED_OTHERWISE, ""),
    ("exempt now", (State.EXEMPT,), ""),
    ("seen again", (State.OPEN,), "their sources were read again"),
)


def show_changes(
    out: Console, compared: Compared, *, by: str | None, rows: int | None, everything: bool
) -> None:
    """Print the head of numbers, the causes, and each kind of change."""
    start, end, clock = compared.start, compared.end, compared.clock
    between = end.judged_at - start.judged_at
    apart = f"{stretch(abs(between))} {'later' if between >= timedelta() else 'earlier, by its clock'}"
    first = f"run {start.number} of {moment(start.judged_at, clock)}"
    then = f"run {end.number} of {moment(end.judged_at, clock)}"
    out.print(text(f"{first}, then {then}: {apart}", "bold"))
    if compared.evidence_older_by:
        said = f"its evidence is {stretch(compared.evidence_older_by)} older than that of run {start.number}"
        out.print(text(f"{said}: changes may go back in time", "yellow"))
    show_failed(out, compared.failed, clock)
    out.print(_head(compared))
    out.print()
    changes = compared.changes
    if by is not None:
        _show_groups(out, changes, compared.late, by, None if everything else _GROUPS_IN_SHORT)
    else:
        _show_causes(out, changes)
        most = rows if rows is not None else None if everything else ROWS_IN_SHORT
        _show_sections(out, compared, most, everything)
        _show_moves(out, compared.moves)
    if compared.passing:
        out.print(text(f"{how_many(compared.passing, 'finding')} came and went in between", "dim"))
    out.print()
    hints = [("keymallet findings", "what is open now, the late ones first, and whose")]
    if not everything:
        hints.insert(0, ("keymallet changes --all", "every change, with what exactly changed"))
    show_hints(out, hints)


def _head(compared: Compared) -> Text:
    before, now = in_breach(compared.start.states), in_breach(compared.end.states)
    said = text(f"{before:,} in breach, now {now:,}: ")
    counts = dict(compared.changes["state"].value_counts().iter_rows())
    parts = sums(counts)
    late = compared.end.states.get(PAST_DUE, 0)
    newly = f" ({compared.late.height:,} of them newly)" if late else ""
    parts.append(Text(f"{late:,} past due{newly}", STATE_STYLES[State.LATE] if late else ""))
    return said.append_text(Text(", ").join(parts))


def _show_causes(out: Console, changes: pl.DataFrame) -> None:
    if not changes.height:
        out.print(text("nothing changed its state", "green"))
        return
    table = PlainTable()
    table.add_column("cause", no_wrap=True)
    kinds = _kinds(changes)
    for kind in kinds:
        table.add_column(kind, justify="right", no_wrap=True)
    table.add_column("which means", ratio=1)
    counted = changes.select("cause", _kind().alias("kind")).group_by("cause", "kind").len().rows()
    numbers = {(cause, kind): number for cause, kind, number in counted}
    for cause in Cause:
        cells = [numbers.get((str(cause), kind), 0) for kind in kinds]
        if any(cells):
            shown = (f"{number:,}" if number else "·" for number in cells)
            table.add_row(text(str(cause)), *shown, text(cause.meaning, "dim"))
    out.print(table)


def _kind() -> pl.Expr:
    otherwise = pl.col("state")
    for name, states, _ in _SECTIONS:
        otherwise = (
            pl.when(pl.col("state").is_in(list(map(str, states)))).then(pl.lit(name)).otherwise(otherwise)
        )
    return otherwise


def _kinds(changes: pl.DataFrame) -> list[str]:
    there = set(changes.select(_kind().alias("kind"))["kind"])
    return [name for name, *_ in _SECTIONS if name in there]


def _show_sections(out: Console, compared: Compared, most: int | None, everything: bool) -> None:
    _show_late(out, compared, most)
    for name, states, remark in _SECTIONS:
        found = compared.changes.filter(pl.col("state").is_in(list(map(str, states))))
        if not found.height:
            continue
        out.print()
        _title(out, name, found.height, remark, STATE_STYLES.get(states[0], ""))
        lines = (
            (row["severity"], _named(row), _why(row, everything, name == "ended otherwise"))
            for row in _gravest_first(found)
            .head(found.height if most is None else most)
            .iter_rows(named=True)
        )
        _show_lines(out, lines, found.height - (most if most is not None else found.height))


def _show_late(out: Console, compared: Compared, most: int | None) -> None:
    late = compared.late
    if not late.height:
        return
    out.print()
    _title(out, "newly late", late.height, "past their due date", STATE_STYLES[State.LATE])
    lines = (
        (
            row["severity"],
            _named(row),
            text(f"due {day(row['due'], compared.clock)}, {row['answerer']}", "dim"),
        )
        for row in _gravest_first(late).head(late.height if most is None else most).iter_rows(named=True)
    )
    _show_lines(out, lines, late.height - (most if most is not None else late.height))


def _title(out: Console, name: str, number: int, remark: str, style: str) -> None:
    said = Text().append(f"{name} ({number:,})", style)
    out.print(said.append(f"  {remark}", "dim") if remark else said)


def _gravest_first(frame: pl.DataFrame) -> pl.DataFrame:
    grade = pl.col("severity").cast(pl.Enum(list(SEVERITIES)))
    return frame.sort(grade, "rule", "account", nulls_last=True, maintain_order=True)


def _show_lines(out: Console, lines: Iterable[tuple[str, Text, Text]], more: int) -> None:
    table = Table.grid(padding=(0, 2, 0, 0))
    table.add_column(width=10)
    table.add_column(ratio=1, overflow="fold")
    for severity, who, why in lines:
        graded = Text(f"  {severity}", SEVERITY_STYLES[SEVERITIES[severity]])
        table.add_row(graded, who.append(": ").append_text(why) if why else who)
    out.print(table)
    if more > 0:
        out.print(text(f"  {and_more(more)}", "dim"))


def _named(row: dict[str, Any]) -> Text:
    subject = f" [{row['subject']}]" if row["subject"] else ""
    return text(f"{row['account'] or ''}{subject}".strip() or "everybody").append_text(
        text(f" {row['rule']}", "dim")
    )


def _why(row: dict[str, Any], everything: bool, with_state: bool) -> Text:
    told = [_changed(each) for each in row["changed"]]
    most = len(told) if everything else _DETAILS_IN_SHORT
    named = some_names(told, most) if told else row["cause"]
    return text(f"{row['state']}: {named}" if with_state else named, "dim")


def _changed(each: dict[str, str | None]) -> str:
    """One thing that changed: `enabled: yes → no (directory)`, `factor passkey is there now`."""
    what, was, now = (each["what"] or "").strip(), each["was"], each["is"]
    source = f" ({each['source']})" if each["source"] else ""
    if was == "there" and now is None:
        return f"{what} is no longer there{source}"
    if was is None and now == "there":
        return f"{what} is there now{source}"
    return f"{what}: {was or '-'} → {now or '-'}{source}"


def changed_in_words(changed: Iterable[dict[str, str | None]]) -> str:
    """All that changed, in one line."""
    return "; ".join(map(_changed, changed))


def _show_groups(out: Console, changes: pl.DataFrame, late: pl.DataFrame, by: str, most: int | None) -> None:
    grouped = changes.select(pl.col(by).fill_null("-").alias("group"), _kind().alias("kind"))
    kinds = [*_kinds(changes)]
    if by in late.columns:
        overdue = late.select(pl.col(by).fill_null("-").alias("group"), pl.lit("newly late").alias("kind"))
        grouped = pl.concat([grouped, overdue])
        kinds += ["newly late"] if late.height else []
    if not grouped.height:
        out.print(text("nothing changed its state", "green"))
        return
    table = PlainTable()
    table.add_column(by, ratio=1, overflow="fold")
    for kind in kinds:
        table.add_column(kind, justify="right", no_wrap=True)
    counted = grouped.group_by("group", "kind").len().rows()
    numbers = {(group, kind): number for group, kind, number in counted}
    worst = ("newly late", "new", "back", "exemption ended")
    groups = sorted(
        set(grouped["group"]),
        key=lambda group: (-sum(numbers.get((group, kind), 0) for kind in worst), group),
    )
    for group in groups[:most]:
        cells = (numbers.get((group, kind), 0) for kind in kinds)
        table.add_row(text(group), *(f"{number:,}" if number else "·" for number in cells))
    out.print(table)
    left = len(groups) - len(groups[:most])
    if left:
        out.print(text(f"{and_more(left)} (--all)", "dim"))


def _show_moves(out: Console, moves: Moves | None) -> None:
    out.print()
    if moves is None:
        said = "who came and went is not known: a snapshot that was judged is no longer there"
        out.print(text(said, "yellow"))
        return
    renamed = [f"{old} → {new}" for old, new in moves.renamed]
    parts = [
        (len(moves.appeared), "appeared", some_names(moves.appeared)),
        (len(moves.vanished), "vanished", some_names(moves.vanished)),
        (len(moves.unseen), "not seen", some_names(moves.unseen)),
        (len(renamed), "renamed", some_names(renamed)),
    ]
    people = [
        (len(moves.joined), "joined", some_names(moves.joined)),
        (len(moves.left), "left the roster", some_names(moves.left)),
    ]
    for noun, told in (("accounts", parts), ("people", people)):
        said = ", ".join(f"{number:,} {what} ({names})" for number, what, names in told if number)
        out.print(text(f"{noun}: {said or 'the same'}"))
