"""JSON to columns of text: JSON lines, a list of records, or a document with such a list inside.

A record that is no JSON, or none that can be read, is refused with its line; the others stand.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field, replace
from typing import Any

import msgspec
import polars as pl
import pyarrow as pa

from keymallet.core.base.problems import KeymalletError, fail
from keymallet.core.facts.model import Column, Kind
from keymallet.core.facts.reading import Refusal, digest_of_record
from keymallet.sources.export.column_map import Cell, RowMap
from keymallet.sources.export.csv_rows import as_utf8
from keymallet.sources.export.json_path import JsonPath, parse_path
from keymallet.sources.export.map_shapes import FILE_NAME, CellMap
from keymallet.sources.export.rows import ExportRows
from keymallet.sources.shared import limits

LIST_MARK = "\x1f"
"""Between the members of a list, in a cell: the unit separator stands in no name."""
KEYS_LOOKED_AT = 1_000
"""So many records say which paths there are."""
_PLAIN = re.compile(r"[\w$@-]+")
_BLANK_LINE = re.compile(rb"(?:\A|\n)[ \t\r]*(?=\n)|\n[ \t\r]+\Z")
_ONE_A_LINE = "each line has to be an object of its own, or the whole a list of them"


@dataclass
class Records:
    """The records of a file, each with the line it starts on, and those that were refused."""

    file: str
    records: list[Any] = field(default_factory=list)
    lines: list[int] | range = field(default_factory=list)
    refused: list[Refusal] = field(default_factory=list)


def read_records(data: bytes, file: str, encoding: str | None, inside: str) -> Records:
    """Take a file apart into its records; `inside` is the path of their list in a document.

    Raises KeymalletError where the file as a whole is not what it should be.
    """
    data = json_data(data, file, encoding)
    records = Records(file)
    if is_document(data, inside):
        _from_document(data, records, inside)
    else:
        lines_into(data, records)
        check_read(data, file, records.refused, len(records.records))
    if not records.records and records.refused:
        raise _nothing_read(file, records.refused[0])
    return records


def json_data(data: bytes, file: str, encoding: str | None) -> bytes:
    """The file in UTF-8. Raises KeymalletError where it is empty, or begins like nothing that is JSON."""
    data = as_utf8(data, file, encoding)
    begin = data[:4096].lstrip()
    if not begin:
        raise fail(
            "the file is empty", file=file, line=1, hint="records are JSON objects, one a line or in a list"
        )
    if begin[:1] not in (b"{", b"["):
        shown = begin[:20].decode(errors="replace").splitlines()[0]
        raise fail(
            f'this is no JSON: it begins with "{shown}"', file=file, line=1, hint='for CSV, read = "csv"'
        )
    return data


def is_document(data: bytes, inside: str) -> bool:
    """Whether the whole is one document with a list of records in it, and not one record a line."""
    return bool(inside) or data[:4096].lstrip()[:1] == b"["


def check_read(data: bytes, file: str, refused: list[Refusal], read: int) -> None:
    """Raises KeymalletError where lines were no records: none of them, or all are one object."""
    if refused and (hint := _lists_hint(data)):
        complaint = "this is one JSON document, not a record a line"
        raise fail(complaint, file=file, line=1, hint=hint)
    if refused and not read:
        raise _nothing_read(file, refused[0])


def _nothing_read(file: str, first: Refusal) -> KeymalletError:
    return fail(f"no record could be read: {first.reason}", file=file, line=first.line, hint=_ONE_A_LINE)


def record_places(data: bytes, file: str, inside: str) -> Iterator[tuple[int, bytes]]:
    """The records of a file in UTF-8 with the place at which each begins, whatever can be read of them.

    Raises KeymalletError where the file as a whole is not what it should be.
    """
    if inside or data.lstrip()[:1] == b"[":
        yield from _placed(data, _inside(data, file, inside), file)
        return
    place = 0
    for line in data.split(b"\n"):
        if line.strip():
            yield place + len(line) - len(line.lstrip()), line.strip()
        place += len(line) + 1


def lines_into(data: bytes, records: Records) -> None:
    """Decode each line by itself; what is no object is refused with the number of its line."""
    if not _all_lines(data, records):
        _from_lines(data, records)


def _all_lines(data: bytes, kept: Records) -> bool:
    """Decode all lines at once; False, and nothing done, where one is not what it should be."""
    # Where a line is blank, another that holds two records would not show in their number.
    if limits.endless_line(data) or _BLANK_LINE.search(data):
        return False
    try:
        records = msgspec.json.Decoder().decode_lines(data)
    except (msgspec.DecodeError, RecursionError, ValueError):
        return False
    lines = data.count(b"\n") + (not data.endswith(b"\n"))
    if len(records) != lines or not all(type(record) is dict for record in records):
        return False
    kept.records, kept.lines = records, range(1, lines + 1)
    return True


def _from_lines(data: bytes, records: Records) -> None:
    start, number = 0, 0
    while start < len(data):
        number += 1
        end = data.find(b"\n", start)
        end = len(data) if end < 0 else end
        line = data[start:end]
        start = end + 1
        if line.strip():
            _decode(line, number, records)


def _from_document(data: bytes, records: Records, inside: str) -> None:
    """A list of records, each decoded on its own, so that one that is bad costs only itself."""
    raw = _inside(data, records.file, inside)
    place, line = 0, 1
    for at, text in _placed(data, raw, records.file):
        line += data.count(b"\n", place, at)
        place = at
        _decode(text, line, records)


def _placed(data: bytes, raw: msgspec.Raw, file: str) -> Iterator[tuple[int, bytes]]:
    """The members of a list with the place in the data at which each begins; equal ones stand apart."""
    place = data.find(bytes(raw))
    for member in _whole(raw, list[msgspec.Raw], file, "this is no list of records"):
        text = bytes(member)
        place = data.find(text, place)
        yield place, text
        place += len(text)


def _inside(data: bytes, file: str, inside: str) -> msgspec.Raw:
    """The list of records in a document, as it stands there."""
    raw = msgspec.Raw(data)
    for step in parse_path(inside).steps if inside else ():
        if not isinstance(step, str):
            raise fail(f'records = "{inside}" has to be names alone', file=file)
        whole = _whole(raw, dict[str, msgspec.Raw], file, f'there is no "{inside}" to be read')
        if step not in whole:
            hint = f"there are: {', '.join(list(whole)[:12])}"
            raise fail(f'there is no "{step}" here', file=file, hint=hint)
        raw = whole[step]
    return raw


def _whole(raw: Any, shape: Any, file: str, otherwise: str) -> Any:
    try:
        return msgspec.json.decode(raw, type=shape)
    except (msgspec.DecodeError, RecursionError, ValueError) as error:
        raise fail(f"{otherwise}: {_reason(error)}", file=file) from None


def _decode(text: bytes, line: int, records: Records) -> None:
    if len(text) > limits.LARGEST_RECORD:
        records.refused.append(Refusal(records.file, line, f"a record of {len(text):,} bytes is too large"))
        return
    try:
        record = msgspec.json.decode(text)
    except (msgspec.DecodeError, RecursionError, ValueError) as error:
        why = f"no JSON: {_reason(error)}"
        records.refused.append(Refusal(records.file, line, why, record=digest_of_record(text)))
        return
    if not isinstance(record, dict):
        why = "no object: a record has names and values"
        records.refused.append(Refusal(records.file, line, why, record=digest_of_record(text)))
        return
    records.records.append(record)
    assert isinstance(records.lines, list)
    records.lines.append(line)


def _reason(error: Exception) -> str:
    if isinstance(error, RecursionError):
        return "it is nested too deeply"
    return str(error).removeprefix("JSON is malformed: ")


def _lists_hint(data: bytes) -> str:
    """Where the records may be, if the whole is one object; else an empty string."""
    try:
        whole = msgspec.json.decode(data)
    except (msgspec.DecodeError, RecursionError, ValueError):
        return ""
    lists = (
        [name for name, value in whole.items() if isinstance(value, list)] if isinstance(whole, dict) else []
    )
    return f'if they stand under "{lists[0]}": records = "{lists[0]}" in the map' if lists else _ONE_A_LINE


def read_rows(records: Records, row_map: RowMap, list_separator: str) -> ExportRows:
    """The rows that a part of the map asks for, out of the records of a file."""
    cells = asked(row_map)
    if not row_map.rows and not row_map.only_with:
        return _whole_records(records, row_map, cells, list_separator)
    only_with = parse_path(row_map.only_with) if row_map.only_with else None
    of_row: dict[str, list[str | None]] = {cell.header: [] for cell in cells}
    # A column that is read as a list for one fact is one for all of them.
    lists = {cell.header for cell in cells if cell.column.kind is Kind.WORDS}
    origin: list[int] = []
    nothing: list[bool] = []
    separators = separators_of(cells, list_separator)
    inside = [
        (column, path, _text_of(path, name in lists, separators[name]))
        for name, column in of_row.items()
        for path in (parse_path(name),)
    ]
    for place, record in enumerate(records.records):
        if only_with is not None and not _stands(only_with, record, row_map):
            continue
        for member, is_known in _members(record, row_map):
            origin.append(place)
            nothing.append(not is_known)
            for column, path, text in inside:
                column.append(text(record if path.outside or not row_map.rows else member))
    columns = {name: pa.chunked_array([pa.array(values, pa.string())]) for name, values in of_row.items()}
    rows = ExportRows(
        records.file,
        unused(records.records, row_map),
        columns,
        len(origin),
        lambda rows: [records.lines[row] for row in rows],
        refused=records.refused,
        list_mark=LIST_MARK,
        origin=pl.Series(origin, dtype=pl.Int64),
    )
    if any(nothing):
        rows.nothing_known = pl.Series(nothing)
        rows.silent = sum(nothing)
    return rows


def asked(row_map: RowMap) -> list[Cell]:
    """What is asked of the records: a cell for each column that has to be read."""
    single = [cell for cell in row_map.cells if len(cell.headers) == 1 and cell.header != FILE_NAME]
    known = {cell.header for cell in single}
    like = row_map.cells[0]
    others = [name for name in row_map.asked if name not in known | {row_map.rows, row_map.only_with}]
    text = Column("text", Kind.TEXT, "what is put together, or asked about")
    return [*single, *(replace(like, column=text, own=CellMap(from_=name)) for name in others)]


def paths_in(records: Records) -> list[str]:
    """The paths in the first records of a file."""
    first = records.records[:KEYS_LOOKED_AT]
    return list(dict.fromkeys(leaf for record in first for leaf in leaves_of(record)))


def _whole_records(records: Records, row_map: RowMap, cells: list[Cell], list_separator: str) -> ExportRows:
    """A row for each record: worked out column by column, which is many times as quick as cell by cell."""
    return ExportRows(
        records.file,
        unused(records.records, row_map),
        columns_of(records.records, cells, list_separator),
        len(records.records),
        lambda rows: [records.lines[row] for row in rows],
        refused=records.refused,
        list_mark=LIST_MARK,
    )


def columns_of(records: list[Any], cells: list[Cell], list_separator: str) -> dict[str, pa.ChunkedArray]:
    """What is asked of whole records, as text, by header."""
    lists = {cell.header for cell in cells if cell.column.kind is Kind.WORDS}
    separators = separators_of(cells, list_separator)
    columns = {}
    for name in dict.fromkeys(cell.header for cell in cells):
        path = parse_path(name)
        text = _text_of(path, name in lists, separators[name])
        values = None if name in lists else _by_names(path, records)
        if values is None:
            written = [text(record) for record in records]
        else:
            pairs = zip(values, records, strict=True)
            written = [
                (pair or None) if type(pair) is str or pair is None else text(record)
                for pair, record in pairs
            ]
        columns[name] = pa.chunked_array([pa.array(written, pa.string())])
    return columns


def separators_of(cells: list[Cell], list_separator: str) -> dict[str, str]:
    """What stands between the members of a list that is written as one text, by header."""
    return {cell.header: cell.separator or list_separator for cell in cells}


def _by_names(path: JsonPath, records: list[Any]) -> list[Any] | None:
    """What stands at a path of names alone in each record; None where it takes more than names to tell."""
    names = [step for step in path.steps if isinstance(step, str)]
    if not names or len(names) != len(path.steps):
        return None
    if len(names) > 1 and any(path.text in record for record in records):
        return None  # a name that holds the dots itself
    values = records
    for name in names:
        values = [value.get(name) if type(value) is dict else None for value in values]
    return values


def _stands(path: JsonPath, record: Any, row_map: RowMap) -> bool:
    """Whether something stands there; a word for nothing is nothing."""
    return any(not isinstance(value, str) or row_map.stands(value) for value in path.found_in(record))


def _members(record: Any, row_map: RowMap) -> Iterable[tuple[Any, bool]]:
    """What the rows are made of, each with whether anything is known of it."""
    if not row_map.rows:
        return [(record, True)]
    path = parse_path(row_map.rows)
    values = [
        member
        for value in path.found_in(record)
        for member in (value if isinstance(value, list) else [value])
    ]
    if not values and row_map.missing == "unknown" and not path.is_told_in(record):
        return [({}, False)]
    members = [member for member in values if member is not None]
    return [(member, True) for member in members if not (isinstance(member, str) and row_map.is_none(member))]


def _text_of(path: JsonPath, is_list: bool, separator: str) -> Callable[[Any], str | None]:
    """How what stands at a path is written in a cell."""

    def text(record: Any) -> str | None:
        values = path.found_in(record)
        flat = [item for value in values for item in (value if isinstance(value, list) else [value])]
        if is_list:
            if len(values) == 1 and isinstance(values[0], str) and not path.is_many:
                flat = values[0].split(separator)
            return LIST_MARK.join(map(scalar_text, flat)) if values else None
        return separator.join(map(scalar_text, flat)) or None

    return text


def scalar_text(value: Any) -> str:
    """A value as it is written in a cell."""
    if isinstance(value, str):
        return value
    if isinstance(value, float) and value.is_integer():
        return str(int(value))
    return msgspec.json.encode(value).decode()


def unused(records: list[Any], row_map: RowMap) -> list[str]:
    """The paths in the first records that nothing is read from."""
    used = [_names(row_map.rows), _names(row_map.only_with)]
    used += [_names(header) for header in row_map.asked]
    leaves = dict.fromkeys(leaf for record in records[:KEYS_LOOKED_AT] for leaf in leaves_of(record))
    return [leaf for leaf in leaves if not any(_covers(names, _names(leaf)) for names in used if names)]


def _names(path: str) -> tuple[str, ...]:
    return tuple(step for step in parse_path(path).steps if isinstance(step, str)) if path else ()


def _covers(used: tuple[str, ...], leaf: tuple[str, ...]) -> bool:
    shorter = min(len(used), len(leaf))
    return used[:shorter] == leaf[:shorter]


def leaves_of(value: Any, prefix: str = "", depth: int = 0) -> Iterator[str]:
    """The paths of everything a record says, not going into lists; a name with a quote in it has no path."""
    if not isinstance(value, dict):
        return
    for name, inner in value.items():
        if '"' in name:
            continue
        step = name if _PLAIN.fullmatch(name) else f'"{name}"'
        path = f"{prefix}{step}"
        if isinstance(inner, dict) and inner and depth < 4:
            yield from leaves_of(inner, f"{path}.", depth + 1)
        else:
            yield path
