"""An export as it lies there: its columns with every distinct value, before anything is known of them."""

from __future__ import annotations

import csv
import io
import re
from collections import Counter
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from itertools import islice
from pathlib import Path
from typing import Any

import msgspec
import polars as pl

from keymallet.core.base.problems import fail
from keymallet.fitting.dates import looks_like_a_date
from keymallet.fitting.encodings import find_encoding
from keymallet.fitting.pieces import LARGE, Pieces, pieces_of
from keymallet.fitting.vocabulary import understood
from keymallet.sources.export.csv_rows import SEPARATORS, as_utf8, from_header, read_rows
from keymallet.sources.export.json_path import MEMBER, parse_path
from keymallet.sources.export.json_rows import leaves_of, read_records, scalar_text
from keymallet.sources.export.rows import series_of
from keymallet.sources.request import read_file

MAIL = re.compile(r"[^@\s,;<>]+@[^@\s,;<>]+\.[^@\s,;<>.]+")
_RECORDS_LOOKED_AT = 20_000
"""Of a JSON file; a CSV file is looked at whole, which its columns make cheap."""
_LINES_LOOKED_AT = 200
_LARGEST_WHOLE = 256_000_000
"""Bytes of a file that is looked at whole."""
_TITLES = 20
"""Lines among which the one that names the columns is looked for."""
_DEEPEST = 3
_MOST_VALUES = 4_000
_LONGEST = 300
"""Letters of a value that are looked at."""


@dataclass(frozen=True)
class SampledColumn:
    """One column: its distinct values with how often each stands there, most frequent first.

    Of very many only some are kept: the most frequent, and some all over the rest; `distinct` is how many
    there are, `every` holds them all. `is_list`: the values are the members of lists. `empty` counts rows in
    which nothing stands.
    """

    header: str
    values: dict[str, int]
    rows: int
    empty: int
    is_list: bool = False
    steps: tuple[str, ...] = ()
    distinct: int = 0
    every: pl.Series | None = field(default=None, compare=False, repr=False)

    def __post_init__(self) -> None:
        if not self.distinct:
            object.__setattr__(self, "distinct", len(self.values))

    @property
    def names(self) -> tuple[str, ...]:
        """The header in its parts: the steps of the path, in JSON."""
        return self.steps or (self.header,)

    @property
    def filled(self) -> int:
        """How many rows have something there."""
        return self.rows - self.empty

    def members(self, mark: str) -> dict[str, int]:
        """The members of the lists in the cells, with how often each stands there, most frequent first."""
        counts: Counter[str] = Counter()
        for value, times in self.values.items():
            for member in value.split(mark) if mark else [value]:
                counts[member.strip()] += times
        del counts[""]
        return dict(counts.most_common())


@dataclass
class Sample:
    """The columns of a file, or of the lists that stand under `path` in each of its records."""

    columns: list[SampledColumn]
    rows: int
    path: str = ""
    lists: list[Sample] = field(default_factory=list)


@dataclass
class Export:
    """A file, and what had to be found out to take it apart. `separator` and `encoding` are those of CSV.

    Of a large one `pieces` may be all that was looked at.
    """

    file: str
    format: str
    sample: Sample
    separator: str = ""
    encoding: str = ""
    records: str = ""
    remarks: list[str] = field(default_factory=list)
    is_whole: bool = True
    pieces: Pieces | None = None
    header_line: int | None = None


def look_at_pieces(path: Path, shown: str) -> Export:
    """Look at a file; of a large one at pieces all over it. Raises KeymalletError as `read_sample` does.

    What the values of several files have in common does not show in pieces of them: see `look_into`.
    """
    size = path.stat().st_size if path.is_file() else 0
    pieces = None
    if size > LARGE:
        try:
            pieces = pieces_of(path)
        except OSError as error:
            raise fail(f"the file cannot be read: {error.strerror or error}", file=shown) from None
    if pieces is None:
        return look_into(path, shown)
    export = read_sample(pieces.data, shown, pieces.line_of)
    export.remarks.append(
        f"{len(pieces.data):,} of {size:,} bytes were looked at, all over the file: a word that stands"
        " nowhere in them is not in the map, and keymallet read names it"
    )
    export.is_whole, export.pieces = False, pieces
    return export


def look_into(path: Path, shown: str) -> Export:
    """Look at a file; of a very large one at its beginning. Raises KeymalletError as `read_sample` does."""
    size = path.stat().st_size if path.is_file() else 0
    if size <= _LARGEST_WHOLE:
        return read_sample(read_file(path, shown, "name the export itself"), shown)
    with path.open("rb") as stream:
        data = stream.read(_LARGEST_WHOLE // 2)
    whole_lines = data[: data.rfind(b"\n") + 1]
    if not whole_lines or data.lstrip()[:1] == b"[":
        hint = "as one record a line, its beginning can be looked at"
        raise fail(f"{size:,} bytes in one piece are too much to look at", file=shown, hint=hint)
    export = read_sample(whole_lines, shown)
    export.remarks.append(f"only the first {len(whole_lines):,} of {size:,} bytes were looked at")
    export.is_whole = False
    return export


def read_sample(data: bytes, file: str, line_of: Callable[[int], int] = int) -> Export:
    """Look at a CSV or JSON export. Raises KeymalletError where it is neither, or holds no rows.

    `line_of` says which line of the file a line of the data is.
    """
    begin = data[:4096].removeprefix(b"\xef\xbb\xbf").lstrip()
    if not begin:
        raise fail("the file is empty", file=file, line=1, hint="an export has a header and rows")
    if begin[:1] == b"<":
        raise fail("this is a page or XML, no export", file=file, line=1, hint="export it as CSV or JSON")
    export = (_json if begin[:1] in (b"{", b"[") else _csv)(data, file, line_of)
    if not export.sample.rows:
        raise fail("there are no rows, only a header", file=file, hint="take an export with some accounts")
    return export


# CSV


def _csv(data: bytes, file: str, line_of: Callable[[int], int]) -> Export:
    encoding = find_encoding(data)
    text = as_utf8(data, file, encoding or None)
    separator = _separator(text)
    header_line = _header_line(text, separator)
    below, _ = from_header(text, file, separator, header_line)
    header = _checked_header(below, file, separator)
    wanted = [name for name, times in Counter(header).items() if times == 1]
    if not wanted:
        hint = "give each column a name of its own"
        raise fail("no column has a name that stands only once", file=file, line=1, hint=hint)
    rows = read_rows(text, file, encoding=None, separator=separator, wanted=wanted, header_line=header_line)
    columns = [_column(name, series_of(rows.columns[name])) for name in wanted]
    export = Export(
        file, "csv", Sample(columns, rows.height), separator, encoding, remarks=list(rows.remarks)
    )
    if header_line:
        export.header_line = header_line
        export.remarks.append(f"the columns are named on line {header_line}")
    if encoding:
        export.remarks.append(f"the file is not UTF-8: read as {encoding}; look at the letters with accents")
    if rows.refused:
        first = rows.refused[0]
        export.remarks.append(
            f"{len(rows.refused):,} rows are malformed,"
            f" the first on line {line_of(first.line)}: {first.reason}"
        )
    return export


def _first_records(text: bytes, separator: str, number: int) -> list[list[str]]:
    beginning = text[:1_000_000].decode(errors="replace")
    reader = csv.reader(io.StringIO(beginning, newline=""), delimiter=separator)
    try:
        return [record for record in islice(reader, number) if record]
    except csv.Error:
        return []


def _header_line(text: bytes, separator: str) -> int | None:
    """The line that names the columns, where titles stand above it; None where that is the first.

    Only lines with no more than one cell filled are titles, and what follows them has to be understood.
    """
    reader = csv.reader(
        io.StringIO(text[:1_000_000].decode(errors="replace"), newline=""), delimiter=separator
    )
    try:
        records = []
        line = 1
        for record in islice(reader, _LINES_LOOKED_AT):
            records.append((line, [cell.strip() for cell in record]))
            line = reader.line_num + 1
    except csv.Error:
        return None
    widths = Counter(len(cells) for _, cells in records if cells)
    ((width, _),) = widths.most_common(1) or [(1, 0)]
    for line, cells in records[:_TITLES]:
        if sum(map(bool, cells)) <= 1 and not (len(cells) == width == 1):
            continue
        named = [cell for cell in cells if understood(cell).pieces]
        return line if line > 1 and len(cells) == width and all(cells) and named else None
    return None


def _separator(text: bytes) -> str:
    """The one that cuts most lines into the same number of cells, and into most."""

    def evenness(separator: str) -> tuple[float, int]:
        widths = Counter(len(record) for record in _first_records(text, separator, _LINES_LOOKED_AT))
        ((width, times),) = widths.most_common(1) or [(1, 0)]
        return (0.0, width) if width < 2 else (times / widths.total(), width)

    return max(SEPARATORS, key=evenness)


def _checked_header(text: bytes, file: str, separator: str) -> list[str]:
    records = _first_records(text, separator, _LINES_LOOKED_AT)
    if not records:
        raise fail(
            "no columns can be found in this file", file=file, line=1, hint="is it CSV or JSON at all?"
        )
    header = [name.strip() for name in records[0]]
    ((width, _),) = Counter(len(record) for record in records[1:]).most_common(1) or [(len(header), 0)]
    if len(header) < width:
        hint = "remove the lines before the one that names the columns"
        complaint = f"the first line has {len(header)} of the {width} cells that the others have"
        raise fail(complaint, file=file, line=1, hint=hint)
    if "\0" in "".join(header):
        raise fail("this is no text", file=file, line=1, hint="export it as CSV or JSON")
    values = [name for name in header if looks_like_a_date(name) or MAIL.fullmatch(name)]
    if values:
        hint = "put a line before it that names the columns"
        raise fail(f'the first line names no columns: it holds "{values[0]}"', file=file, line=1, hint=hint)
    return header


def _column(name: str, cells: pl.Series) -> SampledColumn:
    text = cells.cast(pl.String).str.strip_chars()
    counted = text.drop_nulls().value_counts(sort=True)
    counted = counted.filter(pl.col(text.name) != "").sort("count", descending=True, maintain_order=True)
    empty = len(text) - int(counted["count"].sum())
    values = {_cut(value): times for value, times in counted[_some(counted.height)].iter_rows()}
    every = counted[text.name].rename("value")
    return SampledColumn(name, values, len(text), empty, distinct=counted.height, every=every)


# JSON


def _json(data: bytes, file: str, line_of: Callable[[int], int]) -> Export:
    encoding = find_encoding(data)
    inside = _list_inside(as_utf8(data, file, encoding or None))
    records = read_records(data, file, encoding or None, inside)
    export = Export(file, "json", _sample_of(records.records[:_RECORDS_LOOKED_AT], ""), "", encoding, inside)
    if records.refused:
        first = records.refused[0]
        export.remarks.append(
            f"{len(records.refused):,} records cannot be read,"
            f" the first on line {line_of(first.line)}: {first.reason}"
        )
    return export


def _list_inside(data: bytes) -> str:
    """The path of the records where the whole is one object with a list of them inside; else empty."""
    try:
        whole = msgspec.json.decode(data)
    except (msgspec.DecodeError, RecursionError, ValueError):
        return ""
    leaves = [
        leaf
        for leaf in leaves_of(whole)
        for (value,) in [parse_path(leaf).found_in(whole) or [None]]
        if isinstance(value, list) and value and all(isinstance(member, dict) for member in value)
    ]
    # An object that holds as much besides the list is a record itself, of which there is one.
    sizes = {leaf: len(parse_path(leaf).found_in(whole)[0]) for leaf in leaves}
    return max(sizes, key=lambda leaf: sizes[leaf]) if sizes and max(sizes.values()) > 1 else ""


def _sample_of(records: list[Any], path: str, depth: int = 0) -> Sample:
    """The paths in these records, with what stands there; lists of objects are samples of their own."""
    leaves = dict.fromkeys(leaf for record in records for leaf in leaves_of(record))
    sample = Sample([], len(records), path)
    if records and not any(isinstance(record, dict) for record in records):
        sample.columns.append(_of_values(MEMBER, [[record] for record in records], is_list=False))
    for leaf in leaves:
        at = parse_path(leaf)
        values = [at.found_in(record) for record in records]
        flat = [member for several in values for value in several for member in _members(value)]
        if any(isinstance(member, dict) for member in flat):
            inner = [member for member in flat if isinstance(member, dict)]
            if depth < _DEEPEST:
                sample.lists.append(_sample_of(inner, leaf, depth + 1))
            continue
        is_list = any(isinstance(value, list) for several in values for value in several)
        cells = [[member for value in several for member in _members(value)] for several in values]
        sample.columns.append(_of_values(leaf, cells, is_list=is_list))
    return sample


def _some(number: int) -> list[int]:
    """Which of so many values, the most frequent first, are looked at."""
    if number <= _MOST_VALUES:
        return list(range(number))
    half = _MOST_VALUES // 2
    step = (number - half) / half
    return [*range(half), *(half + int(step * place) for place in range(half))]


def _cut(value: str) -> str:
    """A value that is very long is text and no more; its beginning is enough to see that."""
    return value if len(value) <= _LONGEST else f"{value[:_LONGEST]}…"


def _members(value: Any) -> Iterable[Any]:
    return value if isinstance(value, list) else [value]


def _of_values(header: str, cells: list[list[Any]], *, is_list: bool) -> SampledColumn:
    texts = [[_cut(scalar_text(cell).strip()) for cell in several if cell is not None] for several in cells]
    values = Counter(text for several in texts for text in several if text)
    empty = sum(not any(several) for several in texts)
    steps = tuple(step for step in parse_path(header).steps if isinstance(step, str))
    counted = values.most_common()
    some = dict(counted[place] for place in _some(len(counted)))
    every = pl.Series("value", [value for value, _ in counted], dtype=pl.String)
    return SampledColumn(header, some, len(cells), empty, is_list, steps, len(counted), every)
