"""Columns of written dates to instants: UTC, microseconds."""

from __future__ import annotations

from collections.abc import Callable

import polars as pl
import pyarrow as pa

from keymallet.core.base.columns import only_where
from keymallet.core.facts.model import Kind
from keymallet.sources.export.column_map import Cell
from keymallet.sources.export.months import in_english
from keymallet.sources.export.rows import series_of

_UTC = pl.Datetime("us", "UTC")
_FILETIME_EPOCH = 11_644_473_600_000_000  # microseconds from 1601-01-01 to 1970-01-01
_LATEST = 253_402_300_800_000_000  # 10000-01-01, microseconds after 1970-01-01
_FIRST_SERIAL = 25_569  # what a spreadsheet counts 1970-01-01 as
_DAY = 86_400_000_000  # microseconds
_EARLIEST = 2 * _DAY  # the first day of 1970 is written for "never"; in any zone, and as a last day
_MICROSECONDS: dict[str, Callable[[pl.Series], pl.Series]] = {
    "epoch-seconds": lambda number: number * 1_000_000,
    "epoch-milliseconds": lambda number: number * 1_000,
    "epoch-microseconds": lambda number: number,
    "epoch-nanoseconds": lambda number: number // 1_000,
    "epoch-days": lambda number: number * _DAY,
    "filetime": lambda number: number // 10 - _FILETIME_EPOCH,
}
_FURTHEST = {
    "epoch-seconds": _LATEST // 1_000_000,
    "epoch-milliseconds": _LATEST // 1_000,
    "epoch-microseconds": _LATEST,
    "epoch-nanoseconds": 2**63 - 1,
    "epoch-days": _LATEST // _DAY,
    "filetime": (_LATEST + _FILETIME_EPOCH) * 10,
}
_ISO_DAY = r"^\d{4}-\d{2}-\d{2}$"
_ISO_ZONED = r"(?:Z|z|[+-]\d{2}:?\d{2})$"


def may_be_in_full(cell: Cell) -> bool:
    """Whether the map lets this column hold instants written in full and nothing else."""
    return cell.column.kind is Kind.INSTANT and cell.formats[:1] == ("iso",) and not cell.none | cell.unknown


def read_instants(column: pl.Series, cell: Cell) -> tuple[pl.Series, pl.Series | None, int]:
    """Read a column of dates (null where empty), text or instants already.

    Returns the instants, where something could not be read (None: nowhere), and the number of
    values outside 1970 to 9999, which systems write for "never" and which are read as none.
    """
    quick = None
    if column.dtype != pl.String:
        quick = column.cast(_UTC)
    elif may_be_in_full(cell):
        quick = _all_in_full(column)
    instants, unread = _read_slowly(column, cell) if quick is None else (quick, None)
    since_1970 = instants.to_physical()
    outside = ((since_1970 <= _EARLIEST) | (since_1970 >= _LATEST)).fill_null(False)
    number = 0
    if outside.any():
        instants = only_where(~outside, instants)
        number = int(outside.sum())
    return instants, unread if unread is not None and unread.any() else None, number


def _all_in_full(text: pl.Series) -> pl.Series | None:
    """Read at once what is written in full throughout, like 2026-11-24T09:00:00Z; else None."""
    try:
        instants = text.to_arrow().cast(pa.timestamp("us", "UTC"))
    except pa.ArrowInvalid:
        return None
    return series_of(instants).cast(_UTC)


def _read_slowly(text: pl.Series, cell: Cell) -> tuple[pl.Series, pl.Series]:
    """Format by format. Also tells where something stands that should have been a date and is none."""
    folded = text.str.to_lowercase().str.strip_chars()
    given = text.is_not_null() & ~folded.is_in([*cell.none, ""]).fill_null(False)
    left = only_where(given & ~folded.is_in(list(cell.unknown)).fill_null(False), text.str.strip_chars())
    columns: list[pl.Series] = []
    for suffix, zone in cell.zones.items():
        mine = left.str.ends_with(f" {suffix}").fill_null(False)
        within = only_where(mine, left).str.strip_suffix(f" {suffix}")
        columns.extend(_parse(within, written, cell, zone) for written in cell.formats)
        left = only_where(~mine, left)
    columns.extend(_parse(left, written, cell, cell.zone) for written in cell.formats)
    instants = _first_known(columns)
    return instants, given & instants.is_null()


def _parse(text: pl.Series, written: str, cell: Cell, zone: str) -> pl.Series:
    if written == "iso":
        return _iso(text, cell, zone)
    if written in _MICROSECONDS:
        furthest = _FURTHEST[written]
        number = text.cast(pl.Int64, strict=False).clip(-1, furthest)
        whole = _MICROSECONDS[written](number).cast(_UTC)
        return _first_known([whole, _fraction_of_seconds(text)]) if written == "epoch-seconds" else whole
    if written == "spreadsheet-days":
        return _serials(text, cell, zone)
    written = written.replace(".%f", "%.f")  # a fraction of a second, as the parser spells it
    directives = {piece[:1] for piece in written.replace("%%", "").split("%")[1:]}
    if "B" in directives and text.null_count() < len(text):
        text = in_english(text)
    if not directives & set("HIMST"):
        return _days(text.str.to_date(written, strict=False), cell, zone)
    parsed = _read(text, written)
    return parsed.cast(_UTC) if "z" in directives else _in_zone(parsed, zone)


def _fraction_of_seconds(text: pl.Series) -> pl.Series:
    """Seconds since 1970 with a fraction, such as 1795219200.25."""
    seconds = only_where(text.str.contains(r"^\d+[.,]\d+$"), text).str.replace(",", ".", literal=True)
    number = seconds.cast(pl.Float64, strict=False).clip(-1, _LATEST / 1_000_000)
    return (number * 1_000_000).round().cast(pl.Int64, strict=False).cast(_UTC)


def _serials(text: pl.Series, cell: Cell, zone: str) -> pl.Series:
    """Days as spreadsheets count them from the end of 1899: whole ones are plain days, others have a time."""
    written = only_where(text.str.contains(r"^\d{1,7}([.,]\d+)?$"), text).str.replace(",", ".", literal=True)
    since_1970 = written.cast(pl.Float64, strict=False) - _FIRST_SERIAL
    # To the second: a fraction of a day is never written in full.
    local = ((since_1970 * 86_400).round() * 1_000_000).cast(pl.Int64, strict=False).cast(pl.Datetime("us"))
    is_day = since_1970 == since_1970.floor()
    days = only_where(is_day, local).dt.date()
    return _first_known([_days(days, cell, zone), _in_zone(only_where(~is_day, local), zone)])


def _iso(text: pl.Series, cell: Cell, zone: str) -> pl.Series:
    """ISO 8601: a day, or a day and a time with or without zone."""
    days = only_where(text.str.contains(_ISO_DAY), text).str.to_date("%Y-%m-%d", strict=False)
    times = text.str.replace(" ", "T", literal=True)
    zoned = times.str.contains(_ISO_ZONED)
    with_zone = (
        only_where(zoned, times)
        .str.replace(r"[zZ]$", "+00:00")
        .str.replace(r"([+-]\d{2})(\d{2})$", "${1}:${2}")
    )
    naive = only_where(~zoned, times)
    return _first_known(
        [
            _read(with_zone, "%Y-%m-%dT%H:%M:%S%.f%:z").cast(_UTC),
            _read(with_zone, "%Y-%m-%dT%H:%M%:z").cast(_UTC),
            _in_zone(_read(naive, "%Y-%m-%dT%H:%M:%S%.f"), zone),
            _in_zone(_read(naive, "%Y-%m-%dT%H:%M"), zone),
            _days(days, cell, zone),
        ]
    )


def _days(days: pl.Series, cell: Cell, zone: str) -> pl.Series:
    """Plain days. Where they close something, the map has to say whether the day itself still counts."""
    if cell.column.closes and not cell.plain:
        return pl.Series([None], dtype=_UTC).new_from_index(0, len(days))
    if cell.plain == "through" and cell.column.closes:
        days = days.dt.offset_by("1d")
    return _in_zone(days.cast(pl.Datetime("us")), zone)


def _in_zone(naive: pl.Series, zone: str) -> pl.Series:
    """Local times to instants: of a time that exists twice the earlier one, of one that does not, none."""
    local = naive.dt.replace_time_zone(zone, ambiguous="earliest", non_existent="null")
    return local.dt.convert_time_zone("UTC")


def _read(text: pl.Series, pattern: str) -> pl.Series:
    return text.str.to_datetime(pattern, strict=False, time_unit="us")


def _first_known(columns: list[pl.Series]) -> pl.Series:
    frame = pl.DataFrame([column.alias(str(number)) for number, column in enumerate(columns)])
    return frame.select(pl.coalesce(pl.all())).to_series()
