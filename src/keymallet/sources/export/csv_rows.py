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
from array import array
from collections import Counter
from collections.abc import Callable, Collection, Iterator, Sequence
from dataclasses import dataclass, field, replace
from itertools import islice
from typing import Any

import pyarrow as pa
import pyarrow.csv as arrow_csv
from msgspec import structs

from keymallet.core.base.nearest import did_you_mean
from keymallet.core.base.problems import KeymalletError, Place, Problem, fail
from keymallet.core.facts.reading import Refusal, digest_of_record
from keymallet.sources.export.rows import ExportRows
from keymallet.sources.shared.limits import refuse_endless_lines

SEPARATORS = (",", ";", "\t", "|")
csv.field_size_limit(sys.maxsize)
_FULL_INSTANT = re.compile(r"\d{4}-\d\d-\d\d[T ]\d\d:\d\d(:\d\d(\.\d{1,6})?)?(Z|[+-]\d\d:?\d\d)")


def read_rows(
    data: bytes,
    file: str,
    *,
    encoding: str | None,
    separator: str | None,
    wanted: Collection[str],
    repeated: Collection[str] = (),
    instants: Collection[str] = (),
    header_line: int | None = None,
) -> ExportRows:
    """Read the wanted columns of a CSV file.

    `repeated` are those whose values recur often; `instants` those that may hold instants written
    in full, like 2026-11-24T09:00:00Z. `header_line` is the line that names the columns; with 0 none
    does, and they are called 1, 2, 3 and so on.

    Raises KeymalletError with file, line and column where the file as a whole cannot be read.
    """
    data = as_utf8(data, file, encoding)
    refuse_endless_lines(data, file)
    data, above = from_header(data, file, separator, header_line)
    return further_down(lambda: _read_rows(data, file, separator, wanted, repeated, instants), above)


def further_down(read: Callable[[], ExportRows], above: int) -> ExportRows:
    """The rows of a part of a file, with the lines of the whole: above the part stand so many."""
    try:
        rows = read()
    except KeymalletError as error:
        raise KeymalletError([_lower(problem, above) for problem in error.problems]) from None
    if above:
        lines = rows.line_of
        rows.line_of = lambda records: [line + above for line in lines(records)]
        rows.refused = [
            structs.replace(
                refusal,
                line=refusal.line + above,
                last_line=refusal.last_line + above if refusal.last_line else 0,
            )
            for refusal in rows.refused
        ]
    return rows


def header_of(
    data: bytes,
    file: str,
    *,
    encoding: str | None,
    separator: str | None,
    header_line: int | None,
    expected: Collection[str] = (),
) -> list[str]:
    """The names of a file's columns, where none of them has to be there; `expected` tell the separator."""
    data, _ = from_header(as_utf8(data, file, encoding), file, separator, header_line)
    headers = [_first_record(data, file, each) for each in ((separator,) if separator else SEPARATORS)]
    return max(headers, key=lambda names: (len(set(expected) & set(names)), len(names)))


def from_header(data: bytes, file: str, separator: str | None, header_line: int | None) -> tuple[bytes, int]:
    """The file from the line on that names its columns, and how many lines stood above that line.

    Where no line names them, one that numbers them is put above: then it is -1.
    """
    if header_line == 0:
        separator = separator or max(SEPARATORS, key=lambda mark: len(_first_record(data, file, mark)))
        width = len(_first_record(data, file, separator))
        return separator.join(map(str, range(1, width + 1))).encode() + b"\n" + data, -1
    start = 0
    for _ in range((header_line or 1) - 1):
        end = data.find(b"\n", start)
        if end < 0:
            said = f"the map says that line {header_line} names the columns, and the file is shorter"
            raise fail(said, file=file, line=data.count(b"\n") + 1, hint="header-line = … in the map")
        start = end + 1
    return data[start:], (header_line or 1) - 1


def _lower(problem: Problem, above: int) -> Problem:
    """The same, at the line of the whole file."""
    place = problem.place
    if not above or place is None or not place.line:
        return problem
    return replace(problem, place=replace(place, line=max(place.line + above, 1)))


def _read_rows(
    data: bytes,
    file: str,
    separator: str | None,
    wanted: Collection[str],
    repeated: Collection[str],
    instants: Collection[str],
) -> ExportRows:
    separator, header = _header(data, file, separator, wanted)
    types: dict[str, pa.DataType] = dict.fromkeys(repeated, pa.dictionary(pa.int32(), pa.string()))
    in_full = dict.fromkeys(_in_full(data, file, separator, header, instants), pa.timestamp("us", "UTC"))
    fast, skipped = None, 0
    if data[:1] not in (b"\r", b"\n"):  # before the header, PyArrow would take a blank line for it
        fast, skipped = _read_fast(data, separator, header, wanted, types | in_full)
        if fast is None and in_full:
            fast, skipped = _read_fast(data, separator, header, wanted, types)
    # Without quotes, and with as many cells in every row as in the header, nothing can hide.
    if fast is not None and not skipped and (b'"' not in data or fast.num_rows + 1 == _line_count(data)):
        return _rows(file, data, separator, header, fast)
    decoded(data, file)
    survey = _survey(data, file, separator, len(header))
    if fast is None or survey.stray_quotes or fast.num_rows != len(survey.lines):
        fast = _read_cells(data, separator, header, wanted)
    rows = _rows(file, data, separator, header, fast, survey.lines)
    rows.refused = survey.refused
    return rows


def _rows(
    file: str,
    data: bytes,
    separator: str,
    header: list[str],
    table: pa.Table,
    known_lines: Sequence[int] | None = None,
) -> ExportRows:
    columns = {name: table.column(name) for name in table.column_names}

    def line_of(records: Collection[int]) -> list[int]:
        lines = known_lines
        if lines is None and _line_count(data) != table.num_rows + 1:
            lines = _survey(data, file, separator, len(header)).lines
        return [record + 2 if lines is None else lines[record] for record in records]

    rows = ExportRows(
        file, [name for name in header if name not in columns], columns, table.num_rows, line_of
    )
    repeated = [name for name, times in Counter(header).items() if times > 1]
    if repeated:
        shown = ", ".join(repeated[:8])
        rows.remarks.append(f"{file}: several columns are called {shown}; none of them is used")
    return rows


# encoding


def as_utf8(data: bytes, file: str, encoding: str | None) -> bytes:
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


def decoded(data: bytes, file: str) -> str:
    """The text of a file. Raises KeymalletError with the place of the first byte that is not UTF-8."""
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
    best = max(candidates, key=lambda cell: (len(set(wanted) & set(headers[cell])), len(headers[cell])))
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
            places = ", ".join(str(number + 1) for number, cell in enumerate(header) if cell == name)
            hint = "give the columns different names before they are read"
            problems.append(
                Problem(f'"{name}" is the name of several columns: {places}', Place(file, 1), hint=hint)
            )
    if problems:
        raise KeymalletError(problems)
    return best, header


def separator_of(header: bytes, file: str, separator: str | None, wanted: Collection[str]) -> str:
    """What stands between the cells of a file that begins with this line. Raises KeymalletError."""
    return _header(header, file, separator, wanted)[0]


def _first_record(data: bytes, file: str, separator: str) -> list[str]:
    beginning = data[:1_000_000]
    if len(data) > len(beginning):
        beginning = beginning[: beginning.rfind(b"\n") + 1] or beginning
    reader = csv.reader(io.StringIO(decoded(beginning, file), newline=""), delimiter=separator)
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
) -> tuple[pa.Table | None, int]:
    """Read with PyArrow: the table (None if a value is not of its type), and how many rows it skipped."""
    skipped: list[arrow_csv.InvalidRow] = []

    def skip(row: arrow_csv.InvalidRow) -> str:
        skipped.append(row)
        return "skip"

    # Columns are named by number: headers may repeat, and unwanted ones may be anything.
    numbers = {name: str(header.index(name)) for name in wanted}
    try:
        table = arrow_csv.read_csv(
            pa.BufferReader(data),
            read_options=arrow_csv.ReadOptions(
                column_names=[str(number) for number in range(len(header))],
                skip_rows_after_names=1,
            ),
            parse_options=arrow_csv.ParseOptions(
                delimiter=separator, newlines_in_values=b'"' in data, invalid_row_handler=skip
            ),
            convert_options=arrow_csv.ConvertOptions(
                column_types={numbers[name]: types.get(name, pa.string()) for name in wanted},
                include_columns=list(dict.fromkeys(numbers.values())) or ["0"],
                null_values=[""],
                strings_can_be_null=True,
            ),
        )
    except pa.ArrowInvalid:
        return None, 0
    return pa.table({name: table.column(number) for name, number in numbers.items()}), len(skipped)


def _in_full(
    data: bytes, file: str, separator: str, header: list[str], instants: Collection[str]
) -> list[str]:
    """Those columns of instants that begin with values written in full: it is worth trying them so."""
    beginning = decoded(data[: data.find(b"\n", 100_000) + 1] or data, file) if instants else ""
    records = list(islice(csv.reader(io.StringIO(beginning, newline=""), delimiter=separator), 1, 200))
    columns = []
    for name in instants:
        place = header.index(name)
        values = [record[place] for record in records if len(record) > place and record[place]]
        if all(map(_FULL_INSTANT.match, values)):
            columns.append(name)
    return columns


@dataclass
class _Survey:
    """Where the well-formed rows start, and what is wrong with the others."""

    lines: array[int] = field(default_factory=lambda: array("Q"))
    refused: list[Refusal] = field(default_factory=list)
    stray_quotes: bool = False


def _survey(data: bytes, file: str, separator: str, expected: int) -> _Survey:
    """Go through every record with the strict reader. Raises KeymalletError if a quote never closes."""
    survey = _Survey()
    reader = _rows_of(data, file, separator)
    while True:
        line = reader.line_num + 1
        try:
            cells = next(reader)
        except StopIteration:
            return survey
        except csv.Error as error:
            if "unexpected end of data" in str(error):
                raise _never_closed(file, line) from None
            survey.stray_quotes = True
            fault = Refusal(file, line, "text after a closing quote", last_line=reader.line_num)
            survey.refused.append(fault)
            continue
        if len(cells) == expected:
            survey.lines.append(line)
        elif cells:
            width = "1 cell" if len(cells) == 1 else f"{len(cells)} cells"
            why, record = f"{width} where the header has {expected}", "\x1f".join(cells)
            fault = Refusal(
                file, line, why, last_line=reader.line_num, record=digest_of_record(record.encode())
            )
            survey.refused.append(fault)


def _read_cells(data: bytes, separator: str, header: list[str], wanted: Collection[str]) -> pa.Table:
    """Read the well-formed rows with the strict reader: slow, and needed only where quotes are stray."""
    rows = list(_well_formed(data, separator, len(header)))
    places = {name: header.index(name) for name in wanted}
    columns = {
        name: pa.array([row[place] or None for row in rows], pa.string()) for name, place in places.items()
    }
    return pa.table(columns)


def _well_formed(data: bytes, separator: str, expected: int) -> Iterator[list[str]]:
    reader = _rows_of(data, "", separator)
    while True:
        try:
            cells = next(reader)
        except StopIteration:
            return
        except csv.Error:
            continue
        if len(cells) == expected:
            yield cells


def _rows_of(data: bytes, file: str, separator: str) -> Any:
    """The standard library's reader, past the header. Raises KeymalletError if that is malformed."""
    reader = csv.reader(io.StringIO(data.decode(), newline=""), delimiter=separator, strict=True)
    try:
        while not next(reader):
            pass  # blank lines before the header
    except csv.Error as error:
        hint = "quotes go around a whole name"
        raise fail(
            f"the header cannot be read: {error}", file=file, line=reader.line_num, hint=hint
        ) from None
    return reader


def _never_closed(file: str, line: int) -> KeymalletError:
    return fail(
        "a quote opens in this record and is never closed: what follows cannot be separated",
        file=file,
        line=line,
        hint='close the quote, or double it ("") where it is meant as text',
    )
