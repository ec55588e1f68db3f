"""A file of rows written again with a remark on each record; all that stood in it stays byte for byte."""

from __future__ import annotations

import csv
import io
import json
import re
from collections import defaultdict
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence

from keymallet.core.base.problems import fail
from keymallet.sources.batches.mapped import format_of
from keymallet.sources.export.column_map import ColumnMap
from keymallet.sources.export.csv_rows import SEPARATORS, header_of
from keymallet.sources.export.json_rows import record_places

REMARKS = "remarks"
"""The name of the column, or of the member of a record, that holds the remarks."""
_MARKS = {b"\xef\xbb\xbf": "utf-8", b"\xff\xfe": "utf-16-le", b"\xfe\xff": "utf-16-be"}
_OURS = re.compile(r'\{"remarks": "(?:[^"\\]|\\.)*"(?:, )?')
_BESIDE = "  # "
_COMMENT = b"# remarks: "

Remarks = Mapping[int, Sequence[str]]
"""The remarks on the records that begin on each line, counted from 1; empty ones too."""


RemarkOn = Callable[[int], str | None]
"""What gives the remark on the record that begins on a line; None where there is no such row."""


def remarked(
    data: bytes, file: str, column_map: ColumnMap, remarks: Remarks, only: Collection[int] | None = None
) -> bytes:
    """A file that a map reads, with the remarks; those that an earlier run wrote into it are written over.

    With `only`, the records that begin on these lines alone. Characters that its encoding does not have stand
    as question marks in remarks. Raises KeymalletError where the file is not in the encoding of the map.
    """
    form = format_of(file, column_map)
    text, back = _decoded(data, file, column_map.settings_of(file).encoding)
    remark_on = _in_turn(remarks)
    if form == "json":
        return back(_json(text, file, column_map.records, remark_on, only))
    return back({"csv": _csv, "text": _text}[form](text, file, column_map, remark_on, only))


def json_remarked(
    data: bytes, file: str, records: str, remarks: Remarks, only: Collection[int] | None = None
) -> bytes:
    """A JSON document with the remarks on the members of the list that is called `records` in it."""
    text, back = _decoded(data, file, None)
    return back(_json(text, file, records, _in_turn(remarks), only))


def ldif_remarked(data: bytes, remarks: Remarks, only: Collection[int] | None = None) -> bytes:
    """An LDIF file with each remark as a comment (RFC 2849) above the record that begins on its line."""
    remark_on = _in_turn(remarks)
    end = b"\r\n" if b"\r\n" in data[:4_096] else b"\n"
    written: list[bytes] = []
    wanted = True
    after_blank = True
    for number, line in enumerate(data.splitlines(keepends=True), 1):
        said = remark_on(number)
        is_blank = not line.strip()
        if only is not None and after_blank and not is_blank:
            wanted = number in only
        after_blank = is_blank
        if not wanted:
            continue
        if said:
            written.append(_COMMENT + " ".join(said.split()).encode() + end)
        # Lines are counted as they stand in the file that was read, with the remarks of an earlier run.
        if not line.startswith(_COMMENT):
            written.append(line)
    return b"".join(written)


def _in_turn(remarks: Remarks) -> RemarkOn:
    """What gives the remarks on each line one after the other, and then none."""
    pending = defaultdict(list, {line: list(said) for line, said in remarks.items()})
    return lambda line: pending[line].pop(0) if pending[line] else None


def _decoded(data: bytes, file: str, encoding: str | None) -> tuple[str, Callable[[Iterator[str]], bytes]]:
    """The text of a file, and what writes a text as its bytes again. Raises KeymalletError."""
    mark = next((each for each in _MARKS if data.startswith(each)), b"")
    encoding = _MARKS.get(mark) or encoding or "utf-8"
    try:
        text = data[len(mark) :].decode(encoding)
    except UnicodeDecodeError as error:
        raise fail(f"a byte is not {encoding}: 0x{data[error.start]:02x}", file=file) from None
    return text, lambda pieces: mark + "".join(pieces).encode(encoding, errors="replace")


def _csv(
    text: str, file: str, column_map: ColumnMap, remark_on: RemarkOn, only: Collection[int] | None
) -> Iterator[str]:
    settings = column_map.settings_of(file)
    header_line = settings.header_line
    known = [name for parts in column_map.tables.values() for part in parts for name in part.asked]
    separator = settings.separator or _separator(text, file, header_line, known)
    # Where no line names the columns there is none to name this one.
    named, again = header_line == 0, False
    for first, record in _records(text, separator):
        body = record.rstrip("\r\n")
        end = record[len(body) :]
        if first < (header_line or 1) or not body:
            yield record
        elif not named:
            named, again = True, _last_cell(body, separator).strip().strip('"') == REMARKS
            yield record if again else f"{body}{separator}{REMARKS}{end}"
        elif only is None or first in only:
            kept = body[: len(body) - len(_last_cell(body, separator)) - len(separator)] if again else body
            yield f"{kept}{separator}{_cell(remark_on(first) or '', separator)}{end}"


def _separator(text: str, file: str, header_line: int | None, known: Sequence[str]) -> str:
    """What stands between the cells: what makes the most of the columns that are wanted."""

    def found(separator: str) -> tuple[int, int]:
        names = header_of(text.encode(), file, encoding=None, separator=separator, header_line=header_line)
        return len(set(known) & set(names)), len(names)

    return max(SEPARATORS, key=found)


def _records(text: str, separator: str) -> Iterator[tuple[int, str]]:
    """The records of a CSV text as they stand, each with the line it begins on."""
    lines = io.StringIO(text, newline="").readlines()
    reader = csv.reader(lines, delimiter=separator, strict=True)
    done = 0
    while done < len(lines):
        try:
            next(reader)
        except StopIteration:
            break
        except csv.Error:
            pass
        after = max(reader.line_num, done + 1)
        yield done + 1, "".join(lines[done:after])
        done = after


def _last_cell(record: str, separator: str) -> str:
    """The last cell of a record as it is written, quotes and all."""
    if record.endswith('"'):
        start = len(record) - 1
        while start > 0:
            start = record.rfind('"', 0, start)
            # A quote that is doubled is one within the cell.
            if start > 0 and record[start - 1] == '"' and record[start - 2 : start - 1] != separator:
                start -= 1
                continue
            break
        return record[start:]
    return record[record.rfind(separator) + 1 :]


def _cell(remark: str, separator: str) -> str:
    """A remark as a cell."""
    line = " ".join(remark.split())
    quoted = line.replace('"', '""')
    return f'"{quoted}"' if any(sign in line for sign in (separator, '"')) else line


def _json(
    text: str, file: str, records: str, remark_on: RemarkOn, only: Collection[int] | None
) -> Iterator[str]:
    data = text.encode()
    place, line, begun, kept = 0, 1, False, False
    for at, record in record_places(data, file, records):
        line += data.count(b"\n", place, at)
        wanted = only is None or line in only
        # What stands before all records stays; what stands between two goes with the second of them.
        if not begun or (wanted and kept):
            yield data[place:at].decode()
        begun, place = True, at + len(record)
        if wanted:
            yield _with_member(record.decode(), remark_on(line))
            kept = True
        line += record.count(b"\n")
    yield data[place:].decode()


def _with_member(record: str, remark: str | None) -> str:
    """A record with its remark in front of its other members; as it stands where it is no row."""
    if remark is None or not record.startswith("{"):
        return record
    rest = _OURS.sub("{", record, count=1)
    more = ", " if rest[1:].strip() != "}" else ""
    return f'{{"{REMARKS}": {json.dumps(remark)}{more}{rest[1:]}'


def _text(
    text: str, file: str, column_map: ColumnMap, remark_on: RemarkOn, only: Collection[int] | None
) -> Iterator[str]:
    above = column_map.settings_of(file).header_line or 0
    width = max((start + length for start, length in column_map.positions.values()), default=0)
    for number, line in enumerate(text.splitlines(keepends=True), 1):
        body = line.rstrip("\r\n")
        said = None if number <= above else remark_on(number)
        place = body.find(_BESIDE, width)
        kept = body[:place] if place >= 0 else body
        if number <= above or only is None or number in only:
            yield f"{kept.ljust(width) if said else kept}{_BESIDE + said if said else ''}{line[len(body) :]}"
