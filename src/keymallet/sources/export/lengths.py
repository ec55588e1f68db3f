"""Lengths of time as they are written in exports, in the languages that headers are known in.

90d, 8 h, 30 minutes, 180 Tage, PT8H.
"""

from __future__ import annotations

import re
from datetime import timedelta

from keymallet.core.language.literals import parse_span

_ISO = re.compile(
    r"P(?:(?P<w>\d+)W)?(?:(?P<d>\d+)D)?(?:T(?:(?P<h>\d+)H)?(?:(?P<min>\d+)M)?(?:(?P<s>\d+)S)?)?", re.ASCII
)
"""ISO 8601, without years and months, which are no lengths of time of their own."""
_WORDED = re.compile(r"(?P<number>[0-9]+(?:[.,][0-9]+)?)\s*(?P<unit>[^\W\d_]+)\.?")
_UNITS = {
    "s": "s sec secs second seconds sekunde sekunden seconde secondes secondo secondi segundo segundos "
    "seconden sekunda sekundy sekund saniye 秒",
    "min": "min mins minute minutes minuten minuto minuti minutos minuut minuta minuty minut dakika 分",
    "h": "h hr hrs hour hours std stunde stunden heure heures ora ore hora horas uur uren godzina godziny "
    "godzin hodina hodiny hodin saat 時間",
    "d": "d day days tag tage tagen jour jours giorno giorni día días dia dias dag dagen dzień dni den "
    "dny dnů gün 日 日間",
    "w": "w wk wks week weeks woche wochen semaine semaines settimana settimane semana semanas weken tydzień "
    "tygodnie tygodni týden týdny týdnů hafta 週 週間",
}
_UNIT_OF = {word: unit for unit, words in _UNITS.items() for word in words.split()}


def parse_length(written: str, unit: str = "") -> timedelta | None:
    """Read a length of time; a bare number is in `unit`, as lengths are written. None if it is none."""
    text = written.strip()
    if text.isascii() and text.isdigit():
        # None at all is none at all in any unit.
        return parse_span(text + (unit or ("s" if not text.strip("0") else "")))
    if (match := _ISO.fullmatch(text)) and any(match.groups()):
        parts = [parse_span(f"{number}{of}") for of, number in match.groupdict().items() if number]
        known = [part for part in parts if part is not None]
        return sum(known, timedelta()) if len(known) == len(parts) else None
    if (match := _WORDED.fullmatch(text)) and (short := _UNIT_OF.get(match["unit"].lower())):
        return parse_span(f"{match['number'].replace(',', '.')}{short}")
    return None
