"""A topic's report on the terminal: in short, group by group, then what wants a look, the worst first."""

from __future__ import annotations

import textwrap
from collections.abc import Sequence
from string import ascii_lowercase
from zoneinfo import ZoneInfo

import polars as pl
from rich.console import Console
from rich.padding import Padding
from rich.table import Table
from rich.text import Text

from keymallet.core.base.listing import and_more, how_many
from keymallet.core.base.printable import plain
from keymallet.core.topics.report import Section, State, Tone, TopicReport
from keymallet.views.plain_table import PlainTable
from keymallet.views.rows import show_rows
from keymallet.views.terminal import text
from keymallet.views.topic_words.registry import WORDS

TONES = {
    Tone.GRAVE: ("█", "red"),
    Tone.WORRY: ("▓", "yellow"),
    Tone.OPEN: ("░", "magenta"),
    Tone.FAIR: ("▒", "cyan"),
    Tone.FINE: ("─", "green"),
    Tone.QUIET: (" ", "dim"),
}
"""How each tone is drawn in bars, and its colour: never the colour alone."""
BAR, LEAST_BAR = 16, 6
SECTION_ROWS = 10
WIDEST_NAME = 28
WIDEST_WORDS = (24, 12, 6)
NO_GROUP = "(none)"
GROUPS_SHOWN = 8


def show_sentences(out: Console, report: TopicReport, clock: ZoneInfo) -> None:
    """Print the topic in short."""
    for number, sentence in enumerate(WORDS[report.topic].sentences(report, clock)):
        out.print(text(sentence, "bold" if number == 0 else ""))


def show_groups(out: Console, report: TopicReport, groups: pl.DataFrame, *, all_of_them: bool) -> None:
    """Print a line for each group: how many there are in each state, and a bar of them."""
    by = groups.columns[0]
    states = [state for state in report.states if groups[state.word].sum()]
    drawn = marks(report.states)
    shown = groups if all_of_them else groups.head(GROUPS_SHOWN)
    noun = report.plural or report.noun + "s"
    names = [plain(name) if name is not None else NO_GROUP for name in shown[by]]
    widest = min(max(map(len, [by, *names])), WIDEST_NAME)
    columns = [(name, "") for name in report.measures if groups[name].sum()]
    for words in WIDEST_WORDS:
        heads = [(_stacked(noun, words), "all", "")]
        heads += [
            (_marked(state, drawn[state.word], words), state.word, TONES[state.tone][1]) for state in states
        ]
        heads += [(_stacked(name, words), name, style) for name, style in columns]
        widths = [_width(head, shown[column]) for head, column, _ in heads]
        if widest + sum(width + 2 for width in widths) + LEAST_BAR + 2 <= out.width:
            break
    room = min(BAR, out.width - widest - 2 - sum(width + 2 for width in widths))
    table = PlainTable()
    table.add_column(by, min_width=min(widest, 10), overflow="fold")
    for head, _, style in heads:
        table.add_column(Text(head, style), justify="right", no_wrap=True)
    if room >= LEAST_BAR:
        table.add_bar("", room)
    for name, row in zip(names, shown.iter_rows(named=True), strict=True):
        cells = [Text(f"{row[column]:,}" if row[column] else "·", style if row[column] else "dim")
                for _, column, style in heads]  # fmt: skip
        table.add_row(text(name), *cells, *([_bar(row, states, drawn, room)] if room >= LEAST_BAR else []))
    out.print(table)
    if shown.height < groups.height:
        out.print(text(f"{and_more(groups.height - shown.height, 'group')} (--all)", "dim"))


def _marked(state: State, mark: str, widest: int) -> str:
    """A state's mark and words, one below the other where they are longer than that."""
    return f"{mark} {_stacked(state.word, widest)}".strip()


def marks(states: Sequence[State]) -> dict[str, str]:
    """How each state is drawn: the first of a tone by its mark, the others by a letter of their own."""
    drawn: dict[str, str] = {}
    for state in states:
        mark = TONES[state.tone][0]
        letters = [letter for letter in state.word if letter.isalpha()]
        free = [letter for letter in [mark, *letters, *ascii_lowercase] if letter not in drawn.values()]
        drawn[state.word] = free[0]
    return drawn


def _stacked(words: str, widest: int) -> str:
    return "\n".join(textwrap.wrap(words, widest, break_long_words=False))


def _width(head: str, numbers: pl.Series) -> int:
    return max(*map(len, head.split("\n")), len(f"{max(numbers.to_list(), default=0):,}"))


def _bar(row: dict[str, int], states: list[State], marked: dict[str, str], width: int) -> Text:
    """The states as parts of a bar; each that is somebody's has at least one cell."""
    cells = {state.word: max(1, round(width * row[state.word] / row["all"])) if row[state.word] else 0
             for state in states}  # fmt: skip
    while sum(cells.values()) > width and max(cells.values()) > 1:
        cells[max(cells, key=lambda word: cells[word])] -= 1
    while sum(cells.values()) < width:
        cells[max(cells, key=lambda word: cells[word])] += 1
    drawn = Text()
    for state in states:
        drawn.append(marked[state.word] * cells[state.word], TONES[state.tone][1])
    return drawn


def show_meanings(out: Console, report: TopicReport) -> None:
    """Print what the states mean."""
    drawn = marks(report.states)
    grid = Table.grid(padding=(0, 2, 0, 0))
    grid.add_column(no_wrap=True)
    grid.add_column()
    for state in report.states:
        if report.number(state.word):
            style = TONES[state.tone][1]
            grid.add_row(Text(f"  {drawn[state.word]} {state.word}", style), text(state.meaning, "dim"))
    out.print(grid)


def show_section(out: Console, section: Section, report: TopicReport, clock: ZoneInfo) -> None:
    """Print a table of its own with its heading, its first rows, and the sentence that belongs to it."""
    words = WORDS[report.topic].sections[section.name]
    out.print()
    out.print(text(words.title, "dim"))
    first = section.rows.head(SECTION_ROWS)
    shown = words.worded(first.select(section.shown or first.columns))
    if shown.height:
        show_rows(
            out,
            shown,
            section.kinds,
            clock,
            margin=2,
            short=words.short,
            to_the_minute=words.to_the_minute,
        )
    more = section.rows.height - shown.height
    notes = [note] if (note := words.note(section, report)) else []
    notes += [f"{and_more(more)} (--part {section.name} --format csv)"] if more else []
    for note in notes:
        out.print(Padding(text(note, "italic"), (0, 0, 0, 2), expand=False))


def show_left_out(out: Console, report: TopicReport, rules: int) -> None:
    """Name the tables of the topic that are not shown, and how many rows each has."""
    titles = WORDS[report.topic].sections
    parts = [f"{titles[part.name].title} ({part.rows.height:,})" for part in report.sections]
    parts += [f"what the rulebook says of it ({how_many(rules, 'rule')})"] if rules else []
    if parts:
        out.print(Padding(text(f"not shown here: {'; '.join(parts)}", "dim"), (1, 0, 0, 0), expand=False))


def show_entries(out: Console, report: TopicReport, clock: ZoneInfo) -> None:
    """Print every row."""
    show_rows(out, _shown(report, report.rows, clock), report.kinds, clock)


def show_list(out: Console, report: TopicReport, most: int, clock: ZoneInfo) -> None:
    """Print the rows that are in the worst state, at most so many."""
    rows = report.rows
    everything = how_many(rows.height, report.noun, report.plural)
    out.print(text(f"the worst first, {min(most, rows.height):,} of {everything}", "dim"))
    show_rows(out, _shown(report, rows.head(most), clock), report.kinds, clock, margin=2)


def _shown(report: TopicReport, rows: pl.DataFrame, clock: ZoneInfo) -> pl.DataFrame:
    """The columns that a terminal has room for, with those that are worded for it."""
    words = WORDS[report.topic]
    return words.worded(rows, report, clock).select(words.shown)
