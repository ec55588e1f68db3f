"""A guess as a column map in TOML, with comments for the one who looks it over."""

from __future__ import annotations

import shlex
from collections import Counter
from collections.abc import Sequence
from datetime import date
from pathlib import PurePath
from typing import Any

import tomlkit
from tomlkit.items import InlineTable
from tomlkit.items import Table as TomlTable

from keymallet.core.facts.declaration import EXEMPTION
from keymallet.core.facts.model import Kind
from keymallet.fitting.absent import FACTS, untold
from keymallet.fitting.guess import Guess
from keymallet.fitting.matching import Match, Part
from keymallet.fitting.shapes import Shape

_SHOWN = 3
_LETTERS = {"GMT": "UTC", "UTC": "UTC", "Z": "UTC"}


def map_text(guess: Guess, *, today: date, clock: str, map_file: str = "MAP.toml") -> str:
    """The column map. What is unsure stands in it as a comment; columns that are no facts, at the end."""
    document = tomlkit.document()
    for line in _head(guess, today, map_file):
        document.add(tomlkit.comment(line))
    document.add(tomlkit.nl())
    export = guess.export
    document.add("title", tomlkit.item(PurePath(export.file).stem))
    settings = {
        "encoding": export.encoding,
        "separator": export.separator,
        "header-line": export.header_line,
        "records": export.records,
    }
    _add_all(document, [guess], settings, clock)
    for line in _asked(guess):
        document.add(tomlkit.comment(line))
    return f"{tomlkit.dumps(document).rstrip()}\n"


def _asked(guess: Guess) -> list[str]:
    """What only somebody who knows the system can say: that it has none of what is not told here."""
    part = next((part for part in guess.parts if part.table.name == "account"), None)
    if part is None:
        return []
    told = {match.fact.name for match in part.matches if part.uses(match)}
    lacking = untold(told | {each.table.name for each in guess.parts})
    if not lacking:
        return []
    lines = ["", "Not reported here. If the system has none of it at all, say so: no account has any, then."]
    facts = [name for name in lacking if name in FACTS]
    tables = [name for name in lacking if name not in FACTS]
    lines += [f"  under [account]: absent = {facts}".replace("'", '"')] if facts else []
    return [*lines, *([f"  at the top: absent = {tables}".replace("'", '"')] if tables else [])]


def shared_map(
    title: str,
    read: str,
    guesses: Sequence[Guess],
    alike: Sequence[Guess],
    absent: Sequence[str],
    *,
    today: date,
    clock: str,
) -> str:
    """One map for several files of one source, of which it says how each is written.

    `read` is the format of most of them, `alike` files that are read as others are, `absent` the tables that
    the system has no notion of.
    """
    document = tomlkit.document()
    document.add(
        tomlkit.comment(
            f"Guessed on {today.isoformat()}: look it over. Behind each line stands how sure it is"
        )
    )
    document.add(tomlkit.nl())
    document.add("title", tomlkit.item(title))
    records = {guess.export.records for guess in guesses if guess.export.records}
    settings = {"records": records.pop() if len(records) == 1 else "", "absent": list(absent)}
    _add_all(document, guesses, settings, clock)
    files = tomlkit.aot()
    for export in (guess.export for guess in [*guesses, *alike]):
        told: dict[str, Any] = {
            "name": export.file,
            "read": export.format if export.format != read else "",
            "encoding": export.encoding,
            "separator": export.separator,
        }
        if export.header_line is not None:
            told["header-line"] = export.header_line
        if len([value for value in told.values() if value != ""]) > 1:
            files.append(tomlkit.item({name: value for name, value in told.items() if value != ""}))
    if len(files):
        document.add("file", files)
    return f"{tomlkit.dumps(document).rstrip()}\n"


def _add_all(
    document: tomlkit.TOMLDocument, guesses: Sequence[Guess], settings: dict[str, Any], clock: str
) -> None:
    """Settings, dates, the parts of all the guesses, and what is no fact."""
    parts = [part for guess in guesses for part in guess.parts]
    settings |= {"none": _union(parts, "none"), "unknown": _union(parts, "unknown")}
    for name, value in settings.items():
        if value:
            document.add(name, tomlkit.item(value))
    formats = _common_formats(parts)
    _add_dates(document, parts, formats, clock)
    for part in parts:
        _add_part(document, part, formats)
    unused = [(header, why) for guess in guesses for header, why in guess.unused.items()]
    if unused:
        document.add(tomlkit.nl())
        document.add(tomlkit.comment("No facts, as far as can be told:"))
        for header, why in unused:
            document.add(tomlkit.comment(f"  {one_line(header)}{f' ({one_line(why)})' if why else ''}"))


def _head(guess: Guess, today: date, map_file: str) -> list[str]:
    export = guess.export
    tables = dict.fromkeys(part.table.name for part in guess.parts)
    guessed = f"Guessed from {one_line(PurePath(export.file).name)} on {today.isoformat()}: look it over"
    if list(tables) == [EXEMPTION.name]:
        entered = (
            f"keymallet exempt import {shlex.quote(export.file)} --map {shlex.quote(map_file)} --dry-run"
        )
        return [guessed, "What it would enter into the register of exemptions:", "", f"    {entered}"]
    files = ", ".join(f"{table} = {quoted_toml(export.file)}" for table in tables)
    lines = [
        guessed,
        "In the estate file, with a name of your own for the source:",
        "",
        "    [source.NAME]",
        f'    read  = "{export.format}"',
        f"    map   = {quoted_toml(map_file)}",
        f"    files = {{ {files} }}",
    ]
    if not {"account", "person"} & set(tables):
        lines += [
            "",
            f"Rows of {', '.join(tables)} go with accounts: put the section below into the map of theirs.",
        ]
    return lines


def _add_dates(document: tomlkit.TOMLDocument, parts: Sequence[Part], formats: list[str], clock: str) -> None:
    dated = [match.fit.dates for part in parts for match in part.matches if match.fit.dates]
    letters = list(dict.fromkeys(letter for dates in dated for letter in dates.letters))
    if not formats and not letters:
        return
    section = tomlkit.table()
    if formats:
        section.add("formats", formats)
    if any(dates.zoneless for dates in dated):
        section.add(
            tomlkit.comment(
                f"times without a zone are taken in the estate's clock, {clock}; else say zone = …"
            )
        )
    if letters:
        section.add("zones", {letter: _LETTERS.get(letter, clock) for letter in letters})
    document.add(tomlkit.nl())
    document.add("dates", section)


def _add_part(document: tomlkit.TOMLDocument, part: Part, formats: list[str]) -> None:
    section = tomlkit.table()
    if part.rows:
        section.add("rows", part.rows)
    if part.separator:
        section.add("separator", part.separator)
    if part.absent:
        section.add("absent", list(part.absent))
    if part.if_columns:
        section.add("if-columns", list(part.if_columns))
    columns = tomlkit.table()
    for match in part.matches:
        _add_match(columns, match, formats, is_used=part.uses(match))
    section.add("columns", columns)
    document.add(tomlkit.nl())
    if part.if_columns:
        if part.table.name not in document:
            document.add(part.table.name, tomlkit.aot())
        document[part.table.name].append(section)
        return
    document.add(part.table.name, section)


def _add_match(columns: TomlTable, match: Match, formats: list[str], *, is_used: bool) -> None:
    options = dict(match.fit.options)
    if options.get("formats") == formats:
        del options["formats"]
    written: Any = match.column.header
    if options:
        written = _inline({"from": match.column.header, **options})
    if not is_used:
        line = tomlkit.dumps({match.fact.name: written}).strip()
        columns.add(tomlkit.comment(f"{line}  # unsure{_because(match)}"))
        return
    columns.add(match.fact.name, written)
    columns[match.fact.name].comment(f"{match.sureness}{_because(match)}")


def _inline(values: dict[str, Any]) -> InlineTable:
    """A table on one line, tables within it too."""
    table = tomlkit.inline_table()
    for name, value in values.items():
        table.append(name, _inline(value) if isinstance(value, dict) else value)
    return table


def _because(match: Match) -> str:
    notes = remarks(match)
    return f": {_printable('; '.join(notes))}" if notes else ""


def remarks(match: Match) -> list[str]:
    """What one has to know of a match: what was assumed, and what would not be understood."""
    notes = []
    dates, fit = match.fit.dates, match.fit
    if not match.by_header and not match.asked:
        notes.append("by its values alone")
    if fit.remark:
        notes.append(fit.remark)
    if dates is not None and dates.order:
        notes.append(dates.order if dates.proven else f"taken as {dates.order}: no value tells")
    if fit.options.get("plain") == "through":
        notes.append("that day still counts")
    elif fit.options.get("plain") == "until":
        notes.append("that day no longer counts")
    if fit.left:
        shown = ", ".join(f'"{one_line(value)}"' for value in fit.left[:_SHOWN])
        notes.append(f"not understood: {shown}{' …' if len(fit.left) > _SHOWN else ''}")
    unsaid = "empty" not in fit.options and match.column.empty and match.column.filled
    if match.fact.kind is Kind.FLAG and unsaid:
        notes.append("empty is taken as not known")
    return notes


def _union(parts: Sequence[Part], what: str) -> list[str]:
    """The words for nothing, or for not knowing, that stand in the columns that are used."""
    matches = [match for part in parts for match in part.matches if part.uses(match)]
    return list(dict.fromkeys(word for match in matches for word in getattr(Shape(match.column), what)))


def _common_formats(parts: Sequence[Part]) -> list[str]:
    """The formats that most columns of dates are in: they are said once."""
    counts: Counter[tuple[str, ...]] = Counter(
        tuple(match.fit.options["formats"])
        for part in parts
        for match in part.matches
        if "formats" in match.fit.options
    )
    return list(counts.most_common(1)[0][0]) if counts else []


def _printable(text: str) -> str:
    """Text without the signs that a comment cannot hold."""
    return "".join(character if character.isprintable() else " " for character in text)


def one_line(text: str) -> str:
    """A value fit for a comment: no line breaks, and not too long."""
    shown = _printable(text)
    return shown if len(shown) <= 60 else f"{shown[:57]}…"


def quoted_toml(text: str) -> str:
    """A string as TOML writes it."""
    return tomlkit.item(text).as_string()
