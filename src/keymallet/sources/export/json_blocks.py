"""JSON lines to columns of text, some lines at a time, so that all records never stand in memory together.

Lines that hold what the first ones hold are taken by Arrow's reader, which is many times as quick as record
by record. Any others are read record by record, and only that decides what is refused.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from typing import Any

import msgspec
import numpy as np
import polars as pl
import pyarrow as pa
import pyarrow.compute as compute
import pyarrow.json as arrow_json

from keymallet.core.facts.model import Kind
from keymallet.core.facts.reading import Refusal
from keymallet.sources.export.column_map import Cell, RowMap
from keymallet.sources.export.json_path import parse_path
from keymallet.sources.export.json_rows import (
    KEYS_LOOKED_AT,
    LIST_MARK,
    Records,
    asked,
    columns_of,
    lines_into,
    separators_of,
    unused,
)
from keymallet.sources.export.rows import ExportRows

_AT_ONCE = 32 << 20
"""So many bytes of lines are read at once."""
_ARROWS = 1 << 20
"""So many of them by each of Arrow's threads."""
_DEEP = 900
"""Arrow goes to any depth; what opens so many brackets in one line is left to who says where it ends."""
_NO_NUMBER = re.compile(rb"[:,\[]\s*-?(?:NaN|Inf)")
"""What Arrow takes for numbers, and JSON does not know."""
_NEWLINE, _OPENS, _CLOSES = b"\n{}"

_Kinds = dict[tuple[str, ...], pa.DataType]


def rows_of_lines(data: bytes, file: str, row_map: RowMap, list_separator: str) -> ExportRows:
    """A row for each record of a file with one in each line; `data` is in UTF-8."""
    cells = asked(row_map)
    first = Records(file)
    lines_into(data[: _end_of_lines(data, KEYS_LOOKED_AT)], first)
    reader = _Reader.of(cells, first.records, separators_of(cells, list_separator))
    parts: dict[str, list[pa.Array]] = {cell.header: [] for cell in cells}
    lines, number = [pl.Series(dtype=pl.Int64)], 0
    refused: list[Refusal] = []
    for block in _blocks(data):
        ends = _ends(block)
        columns = None if reader is None else reader.columns(block, ends)
        if columns is None:
            records = Records(file)
            lines_into(block, records)
            refused += [msgspec.structs.replace(each, line=each.line + number) for each in records.refused]
            lines.append(pl.Series(records.lines, dtype=pl.Int64) + number)
            columns = columns_of(records.records, cells, list_separator)
        else:
            lines.append(pl.int_range(number + 1, number + 1 + len(ends), eager=True))
        for name, column in columns.items():
            parts[name] += column.chunks
        number += len(ends)
    known = pl.concat(lines)
    return ExportRows(
        file,
        unused(first.records, row_map),
        {name: pa.chunked_array(chunks, pa.string()) for name, chunks in parts.items()},
        len(known),
        lambda rows: known.gather(list(rows)).to_list(),
        refused=refused,
        list_mark=LIST_MARK,
    )


def _end_of_lines(data: bytes, number: int) -> int:
    """Where so many lines end."""
    end = 0
    for _ in range(number):
        end = data.find(b"\n", end) + 1
        if not end:
            return len(data)
    return end


def _blocks(data: bytes) -> Iterator[bytes]:
    """The data in pieces that end with a line."""
    start = 0
    while start < len(data):
        end = data.find(b"\n", start + _AT_ONCE) + 1 or len(data)
        yield data[start:end]
        start = end


def _ends(block: bytes) -> np.ndarray[Any, np.dtype[np.int64]]:
    """Where each line of a block ends: the place behind its last byte."""
    ends = np.flatnonzero(np.frombuffer(block, np.uint8) == _NEWLINE)
    return ends if block.endswith(b"\n") else np.append(ends, len(block))


@dataclass(frozen=True)
class _Reader:
    """What stands in the first records, as Arrow has to be told it; and how columns are written as text."""

    schema: pa.Schema
    cells: tuple[Cell, ...]
    lists: frozenset[str]
    separators: dict[str, str]

    @classmethod
    def of(cls, cells: list[Cell], first: list[Any], separators: dict[str, str]) -> _Reader | None:
        """None where it takes more than names and one kind of value for each to tell what is asked for."""
        kinds: _Kinds = {}
        for cell in cells:
            path = parse_path(cell.header)
            names = tuple(step for step in path.steps if isinstance(step, str))
            kind = _kind_of([value for record in first for value in path.found_in(record)])
            if not names or len(names) != len(path.steps) or path.outside or kind is None:
                return None
            kinds[names] = kind
            if len(names) > 1:
                # A name that holds the dots itself goes before the way along them.
                kinds[(path.text,)] = pa.string()
        if any(one != other and other[: len(one)] == one for one in kinds for other in kinds):
            return None
        if not all(separators.values()):
            return None
        lists = frozenset(cell.header for cell in cells if cell.column.kind is Kind.WORDS)
        return cls(pa.schema(_fields(kinds)), tuple(cells), lists, separators)

    def columns(self, block: bytes, ends: np.ndarray[Any, Any]) -> dict[str, pa.ChunkedArray] | None:
        """What is asked for of the records of a block; None where they have to be read one by one."""
        if not _is_plain(block, ends):
            return None
        try:
            table = arrow_json.read_json(
                pa.BufferReader(block),
                read_options=arrow_json.ReadOptions(block_size=_ARROWS),
                parse_options=arrow_json.ParseOptions(
                    explicit_schema=self.schema, unexpected_field_behavior="ignore"
                ),
            )
        except (pa.ArrowInvalid, pa.ArrowNotImplementedError, UnicodeDecodeError):
            return None
        if table.num_rows != len(ends):
            return None
        columns = {}
        for header in dict.fromkeys(cell.header for cell in self.cells):
            names = [step for step in parse_path(header).steps if isinstance(step, str)]
            if len(names) > 1 and table[header].null_count < table.num_rows:
                return None
            found = table[names[0]] if len(names) == 1 else compute.struct_field(table[names[0]], names[1:])
            text = self._text(header, found)
            if text is None:
                return None
            columns[header] = text
        return columns

    def _text(self, header: str, found: pa.ChunkedArray) -> pa.ChunkedArray | None:
        """A column as it is written in cells; see `json_rows.columns_of`."""
        is_list = header in self.lists
        separator = self.separators[header]
        if pa.types.is_list(found.type):
            # A null in a list is written as such.
            if compute.list_flatten(found).null_count:
                return None
            found = compute.binary_join(found, LIST_MARK if is_list else separator)
        elif pa.types.is_string(found.type) and is_list:
            found = compute.replace_substring(found, separator, LIST_MARK)
        found = found.cast(pa.string())
        if is_list:
            return found
        nothing = compute.equal(found, "")
        return compute.if_else(nothing, None, found) if compute.any(nothing).as_py() else found


def _is_plain(block: bytes, ends: np.ndarray[Any, Any]) -> bool:
    """Whether each line is an object by itself, and none of them odd in a way that Arrow does not mind."""
    letters = np.frombuffer(block, np.uint8)
    starts = np.append(0, ends[:-1] + 1)
    if (ends - starts < 2).any():
        return False
    if (letters[starts] != _OPENS).any() or (letters[ends - 1] != _CLOSES).any():
        return False
    long = np.flatnonzero(ends - starts > 2 * _DEEP)
    lines = (block[start:end] for start, end in zip(starts[long], ends[long], strict=True))
    if any(line.count(b"[") + line.count(b"{") >= _DEEP for line in lines):
        return False
    if (b"NaN" in block or b"Inf" in block) and _NO_NUMBER.search(block):
        return False
    if block.isascii():
        return True
    try:
        block.decode()
    except UnicodeDecodeError:
        return False
    return True


def _kind_of(values: Iterable[Any]) -> pa.DataType | None:
    """The type of these values as Arrow has it; None where they are not all of one that is read quickly."""
    kinds = {type(value) for value in values}
    if kinds <= {str}:
        return pa.string()
    if kinds == {list}:
        members = {type(member) for value in values for member in value}
        return pa.list_(pa.string()) if members <= {str} else None
    return {frozenset({bool}): pa.bool_(), frozenset({int}): pa.int64()}.get(frozenset(kinds))


def _fields(kinds: _Kinds) -> list[pa.Field]:
    """The fields of a record, those along a path within each other."""
    fields = []
    for name in dict.fromkeys(names[0] for names in kinds):
        inner = {names[1:]: kind for names, kind in kinds.items() if names[0] == name}
        fields.append(pa.field(name, inner[()] if () in inner else pa.struct(_fields(inner))))
    return fields
