"""A guessed column map, for the one who has to say whether it is right."""

from __future__ import annotations

from rich.console import Console
from rich.padding import Padding
from rich.table import Table as Grid
from rich.text import Text

from keymallet.core.base.listing import and_more, how_many
from keymallet.core.base.printable import plain
from keymallet.core.base.secrecy import may_be_secret
from keymallet.core.facts.reading import Reading
from keymallet.fitting.guess import Guess
from keymallet.fitting.map_text import remarks
from keymallet.fitting.matching import LIKELY, SURE, UNSURE, Match, Part
from keymallet.fitting.sample import SampledColumn
from keymallet.fitting.shapes import Shape
from keymallet.fitting.vocabulary import names_a_secret
from keymallet.views.intake import counted
from keymallet.views.terminal import text

_STYLES = {SURE: "green", LIKELY: "yellow", UNSURE: "red"}
_VALUES_WIDTH = 36
_CELLS_SHOWN = 6
_SEPARATORS = {",": "commas", ";": "semicolons", "\t": "tabs", "|": "upright strokes"}


def show_guess(out: Console, guess: Guess) -> None:
    """Show what the file is, and for each column what it is taken for, the least sure first."""
    export = guess.export
    form = (
        f"CSV with {_SEPARATORS.get(export.separator, export.separator)}"
        if export.format == "csv"
        else "JSON"
    )
    title = text(export.file, "bold")
    records = how_many(export.sample.rows, "row" if export.format == "csv" else "record")
    title.append(f"  {records} · {form}{f' · {export.encoding}' if export.encoding else ''}", "dim")
    out.print(title)
    for remark in [*export.remarks, *guess.remarks]:
        out.print(text(f"  {remark}", "yellow"))
    for part in guess.parts:
        out.print()
        _show_part(out, part)
    if guess.unused:
        out.print()
        out.print(Text("no facts", "bold"))
        columns = {column.header: column for column in export.sample.columns}
        grid = _grid()
        for header, why in guess.unused.items():
            grid.add_row(
                text(f"  {header}"), text(_values(columns[header]), "dim"), text(why or "–", "dim"), ""
            )
        out.print(grid)


def _show_part(out: Console, part: Part) -> None:
    heading = Text(part.table.name, "bold")
    if part.rows:
        heading.append(plain(f'  a row for each member of "{part.rows}"'), "dim")
    out.print(heading)
    grid = _grid()
    grid.add_row(*(Text(word, "dim") for word in ("  column", "values", "taken for", "how sure")))
    worst_first = sorted(part.matches, key=lambda match: match.score if not match.asked else 2.0)
    for match in worst_first:
        notes = remarks(match)
        fact = text(match.fact.name)
        if notes:
            fact.append(f"\n{plain('; '.join(notes))}", "dim")
        header = f'each of "{part.rows}"' if match.of_member else match.column.header
        style = _STYLES[match.sureness]
        grid.add_row(
            text(f"  {header}"), text(_values(match.column), "dim"), fact, text(_sureness(match), style)
        )
    out.print(grid)
    if part.not_told and not part.rows:
        untold = text(f"no column tells: {', '.join(part.not_told)}", "dim")
        out.print(Padding(untold, (0, 0, 0, 2), expand=False))


def _sureness(match: Match) -> str:
    return "told" if match.asked else match.sureness


def _grid() -> Grid:
    grid = Grid.grid(padding=(0, 2, 0, 0), expand=True)
    grid.add_column(width=22, overflow="fold")
    grid.add_column(width=_VALUES_WIDTH, overflow="fold")
    grid.add_column(ratio=1, overflow="fold")
    grid.add_column(width=8, overflow="fold")
    return grid


def _values(column: SampledColumn) -> str:
    """The most frequent values; of what may be a secret only how many there are."""
    if not column.values:
        return "(empty)"
    shape = Shape(column)
    told = names_a_secret(column.header)
    plainly_none = shape.dates >= 0.5 or shape.share({*shape.true, *shape.false}) >= 0.5
    odd = any(may_be_secret(value) and not value.strip().isdigit() for value in column.values)
    named = told and not plainly_none and (shape.distinct > 0.5 or odd)
    if shape.may_be_secret or named or (odd and not plainly_none):
        return f"({how_many(column.distinct, 'value')}, not shown: may be secret)"
    return _as_many_as_fit(list(column.values), column.distinct)


def _as_many_as_fit(values: list[str], distinct: int) -> str:
    """Values on one line, the first ones; the last says how many more there are."""
    shown: list[str] = []
    for value in values:
        longer = " · ".join([*shown, value, f"{distinct:,} more"])
        if shown and len(longer) > _VALUES_WIDTH:
            break
        shown.append(value)
    more = f" · {distinct - len(shown):,} more" if distinct > len(shown) else ""
    room = _VALUES_WIDTH - len(more)
    line = " · ".join(shown)
    return (line if len(line) <= room else f"{line[: room - 1]}…") + more


def show_trial(out: Console, reading: Reading, on: str = "tried on the whole file") -> None:
    """What came of reading the file by the map; `on` says how much of it."""
    out.print()
    counts = ", ".join(counted(intake.read, table) for table, intake in reading.intake.items())
    refused = sum(intake.refused for intake in reading.intake.values())
    unread = sum(intake.unreadable for intake in reading.intake.values())
    out.print(text(f"{on}: {counts}", "bold"))
    line = f"{how_many(refused, 'row')} refused, {how_many(unread, 'cell')} not understood"
    out.print(text(f"  {line}", "yellow" if refused or unread else "green"))
    details = [
        refusal
        for intake in reading.intake.values()
        for refusal in [*intake.refusals[:_CELLS_SHOWN], *intake.unreadable_cells]
    ]
    seen: dict[tuple[str, str], str] = {}
    for refusal in details:
        key = (refusal.column, refusal.reason)
        seen.setdefault(
            key,
            f"line {refusal.lines}"
            + (f', "{refusal.column}"' if refusal.column else "")
            + f": {refusal.reason}",
        )
    for shown in list(seen.values())[:_CELLS_SHOWN]:
        out.print(text(f"  {shown}", "dim"))
    for remark in reading.remarks:
        if "not used: column" not in remark:
            out.print(text(f"  {remark}", "dim"))
    if len(seen) > _CELLS_SHOWN:
        out.print(text(f"  … {and_more(len(seen) - _CELLS_SHOWN)} like these", "dim"))
