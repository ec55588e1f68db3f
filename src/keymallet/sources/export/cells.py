"""Cells of text to facts, a column at a time.

Values that recur (yes and no, words, lists) are converted once for each distinct value; instants
are parsed as whole columns, one format after the other, each on what the earlier ones left over.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any

import polars as pl
import pyarrow as pa
from msgspec import structs

from keymallet.core.base.columns import only_where
from keymallet.core.base.secrecy import quoted
from keymallet.core.facts.evidence import data_type
from keymallet.core.facts.model import Kind
from keymallet.sources.export.column_map import Cell
from keymallet.sources.export.instants import read_instants
from keymallet.sources.export.lengths import parse_length
from keymallet.sources.export.rows import series_of

RECURRING = (Kind.FLAG, Kind.WORD, Kind.WORDS, Kind.COUNT, Kind.SPAN)
"""Kinds of fact whose cells are read as a dictionary of distinct values."""


@dataclass(frozen=True)
class Converted:
    """A column of facts. `unread` is true where something stood that could not be read.

    `reasons` says for each distinct unreadable value what is wrong with it; `outside` counts instants
    that no system means, and that were read as "there is none".
    """

    facts: pl.Series
    unread: pl.Series | None = None
    reasons: Callable[[str], str] = lambda value: "not understood"
    written: pl.Series | None = None
    outside: int = 0


def convert(cell: Cell, text: pa.ChunkedArray) -> Converted:
    """Turn a column of cells (null where empty) into facts."""
    if cell.pattern is not None:
        return _cut_out(cell, text)
    if cell.own.empty is not None:
        return _with_empty(cell, _converted(cell, text), _plain_text(text))
    return _converted(cell, text)


def _cut_out(cell: Cell, text: pa.ChunkedArray) -> Converted:
    """Only what the map's pattern cuts out of each cell; where it does not fit, nothing is known."""
    assert cell.pattern is not None
    whole = _plain_text(text)
    cut = whole.str.extract(cell.own.pattern, 1 if cell.pattern.groups else 0)
    amiss = whole.str.strip_chars().ne("").fill_null(False) & cut.is_null()
    inner = replace(cell, own=structs.replace(cell.own, pattern=""))
    converted = convert(inner, pa.chunked_array([cut.to_arrow().cast(pa.string())]))
    if not amiss.any():
        return converted
    unread = amiss if converted.unread is None else amiss | converted.unread
    cut_of = dict(zip(whole.filter(unread), cut.filter(unread), strict=True))

    def reason(value: str) -> str:
        cut_out = cut_of[value]
        return "the pattern of the map does not fit" if cut_out is None else converted.reasons(cut_out)

    facts = only_where(~amiss, converted.facts)
    return replace(converted, facts=facts, unread=unread, reasons=reason, written=whole)


def _with_empty(cell: Cell, converted: Converted, text: pl.Series) -> Converted:
    """What the map says that an empty cell means."""
    empty = text.is_null() | (text.str.strip_chars() == "")
    if not empty.any() or cell.own.empty == "none":
        return converted
    if cell.own.empty == "unknown":
        unread = empty if converted.unread is None else empty | converted.unread
        written = text if converted.written is None else converted.written
        return replace(converted, facts=only_where(~empty, converted.facts), unread=unread, written=written)
    meant = pl.Series([cell.own.empty], dtype=converted.facts.dtype).new_from_index(0, len(text))
    return replace(converted, facts=converted.facts.zip_with(~empty, meant))


def _converted(cell: Cell, text: pa.ChunkedArray) -> Converted:
    if cell.column.kind is Kind.INSTANT:
        in_full = pa.types.is_timestamp(text.type)
        series = series_of(text) if in_full else _plain_text(text)
        facts, unread, outside = read_instants(series, cell)
        return Converted(facts, unread, lambda value: _why_no_instant(cell, value), series, outside)
    if cell.column.kind is Kind.TEXT:
        return _text(cell, text)
    return _by_distinct_value(cell, text)


def constant(cell: Cell, height: int) -> pl.Series:
    """A fact that the map gives for every row."""
    return pl.Series([cell.always], dtype=data_type(cell.column)).new_from_index(0, height)


def _plain_text(text: pa.ChunkedArray) -> pl.Series:
    return series_of(text).cast(pl.String)


def _text(cell: Cell, text: pa.ChunkedArray) -> Converted:
    """Text without blanks around it; null where nothing is left, or where the map says there is none.

    What the map calls unknown is null too, but could not be read: it is not known that there is none.
    """
    series = _plain_text(text)
    if _has_blanks(text) and (series.str.starts_with(" ") | series.str.ends_with(" ")).any():
        series = series.str.strip_chars()
        series = only_where(series != "", series)
    if not (cell.none or cell.unknown):
        return Converted(series)
    folded = series.str.to_lowercase()
    unknown = folded.is_in(list(cell.unknown)).fill_null(False)
    facts = only_where(~(folded.is_in(list(cell.none)) | unknown), series)
    return Converted(facts, unknown, lambda value: "stands for unknown", series)


def _has_blanks(text: pa.ChunkedArray) -> bool:
    """Whether there is any blank at all, in whatever place: asked of the bytes, which is quick."""
    if not pa.types.is_string(text.type):
        return True
    return any(b" " in chunk.buffers()[2].to_pybytes() for chunk in text.chunks if chunk.buffers()[2])


def _by_distinct_value(cell: Cell, text: pa.ChunkedArray) -> Converted:
    if not pa.types.is_dictionary(text.type):
        text = text.dictionary_encode()
    merged = text.unify_dictionaries().combine_chunks() if text.num_chunks else pa.array([], text.type)
    if isinstance(merged, pa.ChunkedArray):
        merged = merged.chunk(0) if merged.num_chunks else pa.array([], text.type)
    distinct: list[str] = merged.dictionary.to_pylist()
    codes = series_of(merged.indices).cast(pl.UInt32)
    read = _READERS[cell.column.kind]
    values: list[Any] = []
    faults: list[str] = []
    for value in distinct:
        folded = value.strip().casefold()
        if folded in cell.none or not folded:
            values.append([] if cell.column.kind is Kind.WORDS else None)
            faults.append("")
        elif folded in cell.unknown:
            values.append(None)
            faults.append("stands for unknown")
        else:
            fact, fault = read(cell, value.strip())
            values.append(fact)
            faults.append(fault)
    facts = pl.Series(values, dtype=data_type(cell.column)).gather(codes)
    if cell.column.kind is Kind.WORDS:
        # An empty cell of a list that is supplied is an empty list.
        facts = facts.fill_null(pl.Series([[]], dtype=pl.List(pl.String))) if facts.null_count() else facts
    unread = pl.Series([bool(fault) for fault in faults], dtype=pl.Boolean).gather(codes).fill_null(False)
    if cell.column.kind is Kind.WORDS and unread.any():
        facts = only_where(~unread, facts)
    why = dict(zip(distinct, faults, strict=True))
    written = pl.Series(distinct, dtype=pl.String).gather(codes) if unread.any() else None
    return Converted(facts, unread, lambda value: why[value], written)


def _flag(cell: Cell, value: str) -> tuple[bool | None, str]:
    folded = value.casefold()
    if folded in cell.true:
        return True, ""
    if folded in cell.false:
        return False, ""
    if isinstance(cell.otherwise, bool):
        return cell.otherwise, ""
    return None, "neither a yes nor a no of the map"


def _word(cell: Cell, value: str) -> tuple[str | None, str]:
    word = cell.words.get(value.casefold()) or cell.own_words.get(value.casefold())
    if word is None and isinstance(cell.otherwise, str) and cell.otherwise:
        word = cell.otherwise
    return word, "" if word is not None else "no word of the map"


def _words(cell: Cell, value: str) -> tuple[list[str] | None, str]:
    words = []
    for piece in (piece.strip() for piece in value.split(cell.separator)):
        word = cell.words.get(piece.casefold()) or cell.own_words.get(piece.casefold(), piece)
        if cell.column.words and piece and word not in cell.column.words:
            return None, f"{quoted(piece)} is no word of the map"
        if piece:
            words.append(word)
    return words, ""


def _count(cell: Cell, value: str) -> tuple[int | None, str]:
    if value.isascii() and value.isdigit() and len(value) < 19:
        return int(value), ""
    return None, "no whole number"


def _span(cell: Cell, value: str) -> tuple[Any, str]:
    span = parse_length(value, cell.unit)
    complaint = 'no length of time like 90d, 8 h or PT8H; unit = "minutes" tells of numbers'
    return span, "" if span is not None else complaint


_READERS: dict[Kind, Callable[[Cell, str], tuple[Any, str]]] = {
    Kind.FLAG: _flag,
    Kind.WORD: _word,
    Kind.WORDS: _words,
    Kind.COUNT: _count,
    Kind.SPAN: _span,
}


def _why_no_instant(cell: Cell, value: str) -> str:
    if value.strip().casefold() in cell.unknown:
        return "stands for unknown"
    if cell.column.closes and not cell.plain:
        return 'no date of the map, or a plain date without plain = "through" or "until"'
    return f"no date of the map ({', '.join(cell.formats)}) or no such time in {cell.zone}"
