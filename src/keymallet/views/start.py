"""What `start` found, asks and leaves: for somebody who sees it for the first time."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence

from rich.console import Console
from rich.padding import Padding
from rich.text import Text

from keymallet.core.base.listing import how_many, some_names
from keymallet.core.facts.reading import Reading
from keymallet.fitting.matching import LIKELY, SURE
from keymallet.starting.grouping import Plan, Planned, counted_as
from keymallet.starting.questions import Question
from keymallet.starting.survey import USELESS, Found
from keymallet.views.intake import counted
from keymallet.views.plain_table import PlainTable
from keymallet.views.terminal import text

_BY = {"name": "login names", "stable-id": "numbers", "mail": "mail addresses"}


def show_found(out: Console, plan: Plan, found: Sequence[Found]) -> None:
    """Each source with its files, then what joins what, then what is of no use and why."""
    table = PlainTable()
    for name in ("source", "from", "what it tells", "how sure"):
        table.add_column(name)
    for source in plan.sources:
        table.add_row(text(source.name, "bold"), text(_from(source)), text(_tells(source)), _sureness(source))
    out.print(table)
    if plan.joins:
        out.print()
    found_all: dict[tuple[str, str, str], list[str]] = {}
    for join in plan.joins:
        way = (join.source, join.column, _BY[join.by] + (", in other letters" if join.folded else ""))
        if not join.missing:
            found_all.setdefault(way, []).append(join.file)
            continue
        strangers = (
            f"{how_many(join.missing, 'name')} of nobody there, such as {some_names(join.strangers, 3)}"
        )
        out.print(text(f"{_goes(way, [join.file])}; {strangers}", "yellow"))
    for way, files in found_all.items():
        out.print(text(_goes(way, files)))
    for path, guess in plan.homeless.items():
        what = counted_as(guess.parts[0].table.name)
        out.print(text(f"{path} tells {what}, and not of which system", "yellow"))
    useless = {each.path: each.why for each in found if each.kind == USELESS} | plan.left_out
    for path, why in useless.items():
        out.print(text(f"not used: {path}: {why}", "yellow"))


def _goes(way: tuple[str, str, str], files: Sequence[str]) -> str:
    """That files belong to a source, and by which column."""
    source, column, names = way
    verb = "goes" if len(files) == 1 else "go"
    return f'{", ".join(files)} {verb} with {source}: "{column}" holds their {names}'


def _from(source: Planned) -> str:
    if source.read == "host":
        archives = f"{', '.join(source.archives)}, unpacked into " if source.archives else ""
        return f"{archives}{source.folder}/: {how_many(len(source.hosts), 'host')}"
    return ", ".join(dict.fromkeys(path for paths in source.files.values() for path in paths))


def _tells(source: Planned) -> str:
    if source.read == "host":
        return "accounts, keys, sign-ins and settings of hosts"
    if source.listed:
        return f"{how_many(source.listed, 'listing')} of accounts, one for each computer"
    if source.read == "ldif":
        return "the entries of a directory"
    counts: Counter[str] = Counter()
    for guess in source.read_as:
        for part in guess.parts:
            counts[part.table.name] += 0 if part.rows else guess.export.sample.rows
    more = "" if all(guess.export.is_whole for guess in source.read_as) else "more than "
    return ", ".join(more + counted(rows, name) if rows else f"{name}s" for name, rows in counts.items())


def _sureness(source: Planned) -> Text:
    parts = [part for each in source.guesses for part in each.parts]
    matches = [match for part in parts for match in part.matches if part.uses(match)]
    if not matches:
        return text("by its form", "green")
    sure = sum(match.sureness == SURE for match in matches)
    style = "green" if sure == len(matches) else "yellow"
    likely = sum(match.sureness == LIKELY for match in matches)
    words = [f"{sure} sure"] + ([f"{likely} likely"] if likely else [])
    unsure = len(matches) - sure - likely
    return text(", ".join(words + ([f"{unsure} unsure"] if unsure else [])), style)


def show_question(out: Console, question: Question, number: int, of: int, complaint: str = "") -> None:
    """One question with its choices, its default and an example."""
    out.print()
    if complaint:
        out.print(text(complaint, "red"))
    out.print(text(f"{number} of {of}  {question.text}", "bold"))
    for place, (choice, meaning) in enumerate((question.choices or {}).items(), start=1):
        line = f"{place}  {choice}" + (f": {meaning}" if meaning else "")
        out.print(Padding(text(line), (0, 0, 0, 2)))
    how = "numbers with blanks between; return: none of them"
    if not question.several:
        example = f"; or such as {question.example}" if question.example else ""
        how = f"return: {question.default}{example}"
    out.print(text(f"  {how}", "dim"))


def show_written(out: Console, folder: str, files: Sequence[str]) -> None:
    """The files that were written."""
    out.print()
    out.print(text(f"written in {folder}: {', '.join(files)}", "bold"))


def show_service(out: Console, url: str, called: str, readings: Sequence[Reading], why_not: str) -> None:
    """What a service is, and what the reader may see of its first entries."""
    out.print()
    out.print(text(f"{url}{f' ({called})' if called else ''}", "bold"))
    if why_not:
        out.print(
            text(f"not looked at: {why_not}; keymallet read will say what the reader may see", "yellow")
        )
    for reading in readings:
        for table, frame in reading.tables.items():
            told = [name for name in reading.supply.get(table, {}) if name in frame.columns]
            if frame.height:
                out.print(
                    text(f"the reader sees {counted(frame.height, table)} among the first entries, with:")
                )
                out.print(Padding(text(", ".join(told), "dim"), (0, 0, 0, 4), expand=False))
        if not any(frame.height for frame in reading.tables.values()):
            out.print(text("the reader sees nobody there: is the base right, and may it read?", "yellow"))
        for remark in dict.fromkeys([*reading.incomplete, *reading.remarks]):
            out.print(Padding(text(remark, "yellow"), (0, 0, 0, 4), expand=False))
