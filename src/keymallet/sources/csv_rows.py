"""CSV bytes to columns of text, strictly: every record is either a row, or refused with its line.

The fast way is PyArrow's parser. It is believed where the file has no quotes, or where it found
exactly one row on each line; files with line breaks inside quotes, ragged rows or stray quotes are
gone through with the standard library's strict reader, which knows where each record starts.
"""

from __future__ import annotations

import csv
import io
import re
import sys
from collections.abc import Collection, Iterator
from dataclasses import dataclass, field
from itertools import islice

import pyarrow as pa
import pyarrow.csv as arrow_csv

from keymallet.core.nearest import did_you_mean
from keymallet.core.problems import KeymalletError, Place, Problem, fail
from keymallet.core.reading import Refusal

SEPARATORS = (",", ";", "\t", "|")
csv.field_size_limit(sys.maxsize)
_FULL_INSTANT = re.compile(r"\d{4}-\d\d-\d\d[T ]\d\d:\d\d(:\d\d(\.\d{1,6})?)?(Z|[+-]\d\d:?\d\d)")


@dataclass
class Rows:
    """The rows of one file. An empty cell is null. `columns` holds only those asked for, as text.

    Columns of instants that are written in full throughout may be instants already.

    `known_lines` are the lines its rows start on, once they had to be found out.
    """

    file: str
    data: bytes
    separator: str
    header: list[str]
    columns: dict[str, pa.ChunkedArray]
    height: int
    refused: list[Refusal] = field(default_factory=list)
    known_lines: list[int] | None = None

    def lines(self, rows: Collection[int]) -> list[int]:
        """The lines on which these rows start."""
        if self.known_lines is None and _line_count(self.data) != self.height + 1:
            self.known_lines = [record.line for record in _records(self.data, self.separator)][1:]
        if self.known_lines is None:
            return [row + 2 for row in rows]
        return [self.known_lines[row] for row in rows]


def read_rows(
    data: bytes,
    file: str,
    *,
    encoding: str | None,
    separator: str | None,
    wanted: Collection[str],
    repeated: Collection[str] = (),
    instants: Collection[str] = (),
) -> Rows:
    """Read the wanted columns of a CSV file.

    `repeated` are those whose values recur often; `instants` those that may hold instants written
    in full, like 2026-11-24T09:00:00Z.

    Raises KeymalletError with file, line and column where the file as a whole cannot be read.
    """
    data = _as_utf8(data, file, encoding)
    separator, header = _header(data, file, separator, wanted)
    types: dict[str, pa.DataType] = dict.fromkeys(repeated, pa.dictionary(pa.int32(), pa.string()))
    in_full = dict.fromkeys(_in_full(data, file, separator, header, instants), pa.timestamp("us", "UTC"))
    fast = None
    if data[:1] not in (b"\r", b"\n"):  # before the header, PyArrow would take a blank line for it
        fast = _read_fast(data, separator, header, wanted, types | in_full)
        if fast is None and in_full:
            fast = _read_fast(data, separator, header, wanted, types)
    # Without quotes, and with as many cells in every row as in the header, nothing can hide.
    if fast is not None and (b'"' not in data or fast.num_rows + 1 == _line_count(data)):
        return _rows(file, data, separator, header, fast)
    return _read_strictly(data, file, separator, header, wanted, fast)


def _rows(file: str, data: bytes, separator: str, header: list[str], table: pa.Table) -> Rows:
    columns = {name: table.column(name) for name in table.column_names}
    return Rows(file, data, separator, header, columns, table.num_rows)


# encoding


def _as_utf8(data: bytes, file: str, encoding: str | None) -> bytes:
    """The same text in UTF-8 without byte-order mark."""
    if data.startswith(b"\xef\xbb\xbf"):
        return data[3:]
    if data.startswith((b"\xff\xfe", b"\xfe\xff")):
        encoding = "utf-16"
    if encoding is None or encoding.lower().replace("_", "-") in ("utf-8", "utf8"):
        return data
    try:
        return data.decode(encoding).encode()
    except UnicodeDecodeError as error:
        line, column = _place_of(data[: error.start].decode(encoding, errors="replace"))
        message = f"this byte is not {encoding}: 0x{data[error.start]:02x}"
        raise fail(message, file=file, line=line, column=column, hint="say encoding = … in the map") from None
    except LookupError:
        raise fail(
            f'there is no encoding "{encoding}"', file=file, hint='like "utf-8", "utf-16", "windows-1252"'
        ) from None


def _decoded(data: bytes, file: str) -> str:
    try:
        return data.decode()
    except UnicodeDecodeError as error:
        line, column = _place_of(data[: error.start].decode(errors="replace"))
        raise fail(
            f"this byte is not UTF-8: 0x{data[error.start]:02x}",
            file=file,
            line=line,
            column=column,
            hint='say encoding = "windows-1252" (or another) in the map',
        ) from None


def _place_of(text_before: str) -> tuple[int, int]:
    return text_before.count("\n") + 1, len(text_before) - (text_before.rfind("\n") + 1) + 1


# header


def _header(data: bytes, file: str, separator: str | None, wanted: Collection[str]) -> tuple[str, list[str]]:
    """The separator and the column names. Without a separator given, the one that finds most of `wanted`."""
    candidates = (separator,) if separator else SEPARATORS
    headers = {candidate: _first_record(data, file, candidate) for candidate in candidates}
    best = max(candidates, key=lambda each: (len(set(wanted) & set(headers[each])), len(headers[each])))
    header = headers[best]
    problems = []
    for name in sorted(wanted):
        if name not in header:
            hint = (
                did_you_mean(name, header)
                or f"the columns are: {', '.join(header[:12])}{' …' if len(header) > 12 else ''}"
            )
            problems.append(Problem(f'there is no column "{name}"', Place(file, 1), hint=hint))
        elif header.count(name) > 1:
            places = ", ".join(str(number + 1) for number, each in enumerate(header) if each == name)
            hint = "give the columns different names before they are read"
            problems.append(
                Problem(f'"{name}" is the name of several columns: {places}', Place(file, 1), hint=hint)
            )
    if problems:
        raise KeymalletError(problems)
    return best, header


def _first_record(data: bytes, file: str, separator: str) -> list[str]:
    beginning = data[:1_000_000]
    if len(data) > len(beginning):
        beginning = beginning[: beginning.rfind(b"\n") + 1] or beginning
    reader = csv.reader(io.StringIO(_decoded(beginning, file), newline=""), delimiter=separator)
    for record in reader:
        if record:
            return [name.strip() for name in record]
    raise fail("the file is empty", file=file, line=1, hint="the first line has to name the columns")


# rows


def _line_count(data: bytes) -> int:
    """Lines of the file; a last one without line break counts."""
    return data.count(b"\n") + (not data.endswith(b"\n"))


def _read_fast(
    data: bytes,
    separator: str,
    header: list[str],
    wanted: Collection[str],
    types: dict[str, pa.DataType],
) -> pa.Table | None:
    """Read with PyArrow; None if it finds anything amiss."""
    # Columns are named by number: headers may repeat, and unwanted ones may be anything.
    numbers = {name: str(header.index(name)) for name in wanted}
    try:
        table = arrow_csv.read_csv(
            pa.BufferReader(data),
            read_options=arrow_csv.ReadOptions(
                column_names=[str(number) for number in range(len(header))],
                skip_rows_after_names=1,
            ),
            parse_options=arrow_csv.ParseOptions(delimiter=separator, newlines_in_values=b'"' in data),
            convert_options=arrow_csv.ConvertOptions(
                column_types={numbers[name]: types.get(name, pa.string()) for name in wanted},
                include_columns=list(dict.fromkeys(numbers.values())) or ["0"],
                null_values=[""],
                strings_can_be_null=True,
            ),
        )
    except pa.ArrowInvalid:
        return None
    if not numbers:
        return table.select([])
    return pa.table({name: table.column(number) for name, number in numbers.items()})


def _in_full(
    data: bytes, file: str, separator: str, header: list[str], instants: Collection[str]
) -> list[str]:
    """Those columns of instants that begin with values written in full: it is worth trying them so."""
    beginning = _decoded(data[: data.find(b"\n", 100_000) + 1] or data, file) if instants else ""
    records = list(islice(csv.reader(io.StringIO(beginning, newline=""), delimiter=separator), 1, 200))
    found = []
    for name in instants:
        place = header.index(name)
        values = [record[place] for record in records if len(record) > place and record[place]]
        if all(map(_FULL_INSTANT.match, values)):
            found.append(name)
    return found


@dataclass(frozen=True, slots=True)
class _Record:
    line: int
    last_line: int
    cells: list[str]
    fault: str = ""


def _records(data: bytes, separator: str) -> Iterator[_Record]:
    """Each record that is not blank, with the lines it spans."""
    reader = csv.reader(io.StringIO(data.decode(), newline=""), delimiter=separator, strict=True)
    line = 1
    while True:
        try:
            cells = next(reader)
        except StopIteration:
            return
        except csv.Error as error:
            yield _Record(line, reader.line_num, [], str(error))
        else:
            if cells:
                yield _Record(line, reader.line_num, cells)
        line = reader.line_num + 1


def _read_strictly(
    data: bytes, file: str, separator: str, header: list[str], wanted: Collection[str], fast: pa.Table | None
) -> Rows:
    """Go through every record; take PyArrow's columns if every record is in order after all."""
    _decoded(data, file)
    lines: list[int] = []
    good: list[list[str]] = []
    refused: list[Refusal] = []
    for number, record in enumerate(_records(data, separator)):
        if number == 0 and not record.fault:
            continue
        fault = _fault(record, len(header), file)
        if fault:
            refused.append(Refusal(file, record.line, fault, last_line=record.last_line))
        else:
            lines.append(record.line)
            good.append(record.cells)
    if fast is not None and not refused and fast.num_rows == len(lines):
        rows = _rows(file, data, separator, header, fast)
        rows.known_lines = lines
        return rows
    columns = {
        name: pa.chunked_array([pa.array([cells[place] or None for cells in good], pa.string())])
        for name, place in ((name, header.index(name)) for name in wanted)
    }
    return Rows(file, data, separator, header, columns, len(good), refused, lines)


def _fault(record: _Record, expected: int, file: str) -> str:
    if "unexpected end of data" in record.fault:
        raise fail(
            "a quote opens in this record and is never closed: what follows cannot be told apart",
            file=file,
            line=record.line,
            hint='close the quote, or double it ("") where it is meant as text',
        )
    if record.fault:
        return "text after a closing quote"
    if len(record.cells) != expected:
        cells = "1 cell" if len(record.cells) == 1 else f"{len(record.cells)} cells"
        return f"{cells} where the header has {expected}"
    return ""
