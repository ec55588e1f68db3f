"""How the dates of a column are written, by looking at them: in which format, with what zone."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import date

from keymallet.sources.export.months import ENGLISH, month_number

_ISO = re.compile(r"\d{4}-\d\d-\d\d(?P<time>[T ]\d\d:\d\d(:\d\d(\.\d+)?)?(?P<zone>Z|z|[+-]\d\d:?\d\d)?)?")
_TIME = (
    r"(?:(?P<gap>,? | ?T| - |, um | um | at )"
    r"(?P<hour>\d{1,2}):(?P<minute>\d\d)(?P<second>:\d\d)?(?P<part>\.\d+)?"
    r"(?P<half> ?[AaPp][Mm])?(?P<zone>Z| ?[+-]\d\d:?\d\d| [A-Z]{3,4})?)?"
)
_NUMBERS = re.compile(r"(?P<a>\d{1,4})(?P<mark>[./-])(?P<b>\d{1,2})(?P=mark)(?P<c>\d{4}|\d{2})" + _TIME)
_NAMED = re.compile(
    r"(?P<weekday>[A-Z][a-z]{2}, )?(?P<a>\d{1,2})(?P<mark>\. | de |[ ./-])(?P<b>[^\W\d_]{3,12}\.?)"
    r"(?P<behind> de |[ ./-])(?P<c>\d{4})" + _TIME
)
_NAMED_FIRST = re.compile(r"(?P<b>[^\W\d_]{3,12}\.?) (?P<a>\d{1,2})(?P<mark>,? )(?P<c>\d{4})" + _TIME)
_EAST_ASIAN = re.compile(r"\d{4}年\d{1,2}月\d{1,2}日" + _TIME)
_WEEK_DAY = re.compile(r"\d{4}-W\d\d-\d")
_NUMBER = re.compile(r"\d+(?P<part>[.,]\d+)?", re.ASCII)
_PLAUSIBLE = {
    "epoch-days": (5_479, 27_393),
    "spreadsheet-days": (31_048, 52_963),
    "epoch-seconds": (473_385_600, 2_366_841_600),
    "epoch-milliseconds": (473_385_600_000, 2_366_841_600_000),
    "epoch-microseconds": (473_385_600_000_000, 2_366_841_600_000_000),
    "epoch-nanoseconds": (473_385_600_000_000_000, 2_366_841_600_000_000_000),
    "filetime": (121_178_592_000_000_000, 140_113_152_000_000_000),
}
"""Numbers that count to some day from 1985 to 2044. No number lies within two of these: so a bare number has
one reading at most, and 46340 is 2026-11-14 in a spreadsheet, not 2096 in days since 1970."""
_FEWEST, _LEAST_SPREAD = 3, 3.0
"""Of numbers that differ so little that they may be numbers of another sort, nobody can be sure."""
_RUNS = re.compile(r"(?P<day>\d{8})(?P<time>\d{6})?(?P<part>\.\d+)?(?P<zone>Z)?")
_NEVER_NUMBERS = frozenset({"0", "-1", "9223372036854775807", "2147483647", "2958465"})
"""Written for "never" by systems that write dates as numbers; they are read as none."""

DAY_FIRST, MONTH_FIRST = "day first", "month first"


@dataclass
class Dates:
    """What was found. `share`: of the values that stand for anything, how many these formats read.

    `order` is set where days and months are both numbers; `proven` whether some value can only be
    read so; `spread` whether bare numbers differ so much that they are hardly of another sort. `zone` is
    the zone all times carry without saying so; `letters` are zones by their letters.
    """

    formats: list[str] = field(default_factory=list)
    share: float = 0.0
    zone: str = ""
    letters: list[str] = field(default_factory=list)
    order: str = ""
    proven: bool = True
    spread: bool = True
    plain_days: bool = False
    zoneless: bool = False
    unread: list[str] = field(default_factory=list)


@dataclass(frozen=True)
class _Way:
    """One way of reading one value."""

    format: str
    order: str = ""
    zone: str = ""
    letters: str = ""
    plain_day: bool = False
    zoneless: bool = True


def looks_like_a_date(value: str) -> bool:
    """Whether it is written like a day, with a time or without; numbers alone are not."""
    return bool(_ISO.fullmatch(value) or (not value.isdigit() and _ways(value, numbers=False)))


def find_dates(values: Mapping[str, int], order: str = "", *, latest: date | None = None) -> Dates:
    """How these values are written as dates.

    `order` is what other columns of the file are known to use, for where this one does not tell.
    `latest`: these have happened, so none can lie after this day.
    """
    ways = {value: _ways(value) for value in values}
    numbers_only = all(way.format in _PLAUSIBLE for several in ways.values() for way in several)
    if numbers_only and any(ways.values()):
        ways |= {value: [_Way("", zoneless=False)] for value in values if value in _NEVER_NUMBERS}
    orders = [
        {way.order for way in several} for several in ways.values() if any(way.order for way in several)
    ]
    tally = Counter(next(iter(candidate)) for candidate in orders if len(candidate) == 1)
    proven = True
    if tally:
        order = tally.most_common(1)[0][0]
    elif orders and not order:
        order, proven = _by_calendar(values, latest), False
    return _put_together(values, ways, order if orders else "", proven)


def _put_together(values: Mapping[str, int], ways: dict[str, list[_Way]], order: str, proven: bool) -> Dates:
    dates = Dates(order=order, proven=proven)
    formats: Counter[str] = Counter()
    zones: set[str] = set()
    letters: dict[str, None] = {}
    plainly = Counter(several[0].format for several in ways.values() if len(several) == 1)
    for value, times in values.items():
        possible = [reading for reading in ways[value] if reading.order in ("", order)]
        way = max(possible, key=lambda reading: plainly[reading.format], default=None)
        if way is None:
            dates.unread.append(value)
            continue
        formats[way.format] += times
        zones.add(way.zone)
        letters |= {way.letters: None} if way.letters else {}
        dates.plain_days |= way.plain_day
        dates.zoneless |= way.zoneless and not way.plain_day
    numbers = [
        float(value.replace(",", "."))
        for value, several in ways.items()
        if any(way.format in _PLAUSIBLE for way in several)
    ]
    if numbers:
        # Whole days may well be few and close together; seconds that are so are no seconds.
        apart = max(numbers) - min(numbers)
        dates.spread = len(numbers) >= _FEWEST and apart >= _LEAST_SPREAD * len(numbers)
        dates.spread &= sum(written in _PLAUSIBLE for written in formats) == 1
    total = sum(values.values())
    dates.share = formats.total() / total if total else 0.0
    dates.formats = [written for written, _ in formats.most_common() if written]
    dates.zone = "UTC" if zones == {"UTC"} else ""
    dates.letters = list(letters)
    return dates


def _by_calendar(values: Mapping[str, int], latest: date | None) -> str:
    """Which order keeps what has happened out of the future; day first where neither does better."""
    late = {DAY_FIRST: 0, MONTH_FIRST: 0}
    for value in values if latest else ():
        read = _NUMBERS.fullmatch(value)
        if read is None or len(read["a"]) == 4:
            continue
        year = int(read["c"]) + (2000 if len(read["c"]) == 2 else 0)
        for order, day, month in ((DAY_FIRST, "a", "b"), (MONTH_FIRST, "b", "a")):
            late[order] += _is_after(year, int(read[month]), int(read[day]), latest)
    return min(late, key=lambda order: late[order])


def _is_after(year: int, month: int, day: int, latest: date | None) -> bool:
    try:
        return latest is not None and date(year, month, day) > latest
    except ValueError:
        return True


def _ways(value: str, *, numbers: bool = True) -> list[_Way]:
    """Every way in which a value is a date."""
    if iso := _ISO.fullmatch(value):
        return [_Way("iso", plain_day=not iso["time"], zoneless=not iso["zone"])]
    if match := _NUMBERS.fullmatch(value):
        return _of_numbers(match)
    if match := _NAMED.fullmatch(value) or _NAMED_FIRST.fullmatch(value):
        return _of_names(match)
    if match := _EAST_ASIAN.fullmatch(value):
        return [_timed("%Y年%m月%d日", match)]
    if _WEEK_DAY.fullmatch(value):
        return [_Way("%G-W%V-%u", plain_day=True)]
    return _of_digits(value) if numbers else []


def _of_numbers(match: re.Match[str]) -> list[_Way]:
    first, second, mark = match["a"], match["b"], match["mark"]
    if len(first) == 4:
        is_date = 1 <= int(second) <= 12 and len(match["c"]) == 2 and 1 <= int(match["c"]) <= 31
        return [_timed(f"%Y{mark}%m{mark}%d", match)] if is_date else []
    if len(first) > 2:
        return []
    year = "%Y" if len(match["c"]) == 4 else "%y"
    ways = []
    if 1 <= int(first) <= 31 and 1 <= int(second) <= 12:
        ways.append(_timed(f"%d{mark}%m{mark}{year}", match, DAY_FIRST))
    if 1 <= int(first) <= 12 and 1 <= int(second) <= 31 and mark != ".":  # with points, the day is first
        ways.append(_timed(f"%m{mark}%d{mark}{year}", match, MONTH_FIRST))
    return ways


def _of_names(match: re.Match[str]) -> list[_Way]:
    month = match["b"]
    if not month_number(month):
        return []
    # A short name in English is read by its own sign, all others by the one for names in full; "May" is both.
    short = month in {known[:3] for known in ENGLISH}
    names = ["%b"] if short and month not in ENGLISH else ["%b", "%B"] if short else ["%B"]
    return [_named(name, match) for name in names]


def _named(name: str, match: re.Match[str]) -> _Way:
    mark = match["mark"]
    if match.re is _NAMED_FIRST:
        return _timed(f"{name} %d{mark}%Y", match)
    weekday = "%a, " if match["weekday"] else ""
    return _timed(f"{weekday}%d{mark}{name}{match['behind']}%Y", match)


def _timed(day: str, match: re.Match[str], order: str = "") -> _Way:
    """The format with the time that follows the day, if one does."""
    if match["hour"] is None:
        return _Way(day, order, plain_day=True)
    hour, half = ("%I", match["half"].replace(match["half"].strip(), "%p")) if match["half"] else ("%H", "")
    written = f"{day}{match['gap']}{hour}:%M"
    written += (":%S" if match["second"] else "") + (".%f" if match["part"] else "") + half
    zone = match["zone"] or ""
    if zone == "Z":
        return _Way(f"{written}Z", order, zone="UTC", zoneless=False)
    if zone.strip()[:1] in ("+", "-") and zone:
        return _Way(f"{written}{' ' if zone[0] == ' ' else ''}%z", order, zoneless=False)
    return _Way(written, order, letters=zone.strip(), zoneless=not zone)


def _of_digits(value: str) -> list[_Way]:
    """Numbers that count from some day, and dates written without any marks."""
    if (match := _RUNS.fullmatch(value)) and _is_day(match["day"]) and (match["time"] or not match["zone"]):
        if not match["time"]:
            return [] if match["part"] else [_Way("%Y%m%d", plain_day=True)]
        written = "%Y%m%d%H%M%S" + (".%f" if match["part"] else "") + (match["zone"] or "")
        return [_Way(written, zone="UTC" if match["zone"] else "", zoneless=not match["zone"])]
    if not (number_of := _NUMBER.fullmatch(value)):
        return []
    number = float(value[:20].replace(",", "."))
    for written, (least, most) in _PLAUSIBLE.items():
        may_have_fraction = written in ("spreadsheet-days", "epoch-seconds")
        if least <= number <= most and (may_have_fraction or not number_of["part"]):
            plain_day = written == "epoch-days" or (written == "spreadsheet-days" and number == int(number))
            local = written == "spreadsheet-days"
            return [_Way(written, zoneless=local, plain_day=plain_day)]
    return []


def _is_day(digits: str) -> bool:
    return "1970" <= digits[:4] <= "2199" and "01" <= digits[4:6] <= "12" and "01" <= digits[6:] <= "31"
