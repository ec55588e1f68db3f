"""An entry of a directory as bytes under attribute names, and the values people write in them."""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from functools import lru_cache

from ldap3.core.exceptions import LDAPInvalidDnError
from ldap3.utils.dn import parse_dn

_ESCAPED = re.compile(r"\\([0-9A-Fa-f]{2}|.)", re.DOTALL)
_TIME = re.compile(r"(\d{4})(\d\d)(\d\d)(\d\d)(\d\d)?(\d\d)?(?:[.,](\d{1,9}))?(Z|[+-]\d\d(?:\d\d)?)")
_FILETIME_EPOCH = datetime(1601, 1, 1, tzinfo=UTC)
_LAST = datetime(9999, 12, 31, tzinfo=UTC)
_FIRST = datetime(1970, 1, 1, tzinfo=UTC)


@dataclass(frozen=True, slots=True)
class Entry:
    """One entry: its name, and the values of its attributes by their names in small letters.

    `place` says where it was read, for notes; `key` is the name in the one form that all spellings of it
    have.
    """

    dn: str
    values: dict[str, list[bytes]]
    place: str = ""
    line: int = 0
    key: str = field(init=False)

    def __post_init__(self) -> None:
        object.__setattr__(self, "key", normal_dn(self.dn))

    @property
    def classes(self) -> set[str]:
        """The object classes, in small letters."""
        return {value.lower() for value in self.texts("objectclass")}

    def has(self, *names: str) -> bool:
        """Whether any of these attributes is there."""
        return any(name in self.values for name in names)

    def texts(self, name: str) -> list[str]:
        """All values of an attribute as text; bytes that are not UTF-8 are replaced."""
        return [value.decode("utf-8", "replace") for value in self.values.get(name, ())]

    def text(self, *names: str) -> str | None:
        """The first value of the first of these attributes that has one."""
        for name in names:
            for value in self.values.get(name, ()):
                if text := value.decode("utf-8", "replace").strip():
                    return text
        return None

    def number(self, name: str) -> int | None:
        """A whole number; None where there is none."""
        text = self.text(name)
        return int(text) if text and re.fullmatch(r"-?\d{1,19}", text, re.ASCII) else None

    def flag(self, name: str) -> bool | None:
        """TRUE, FALSE, on, off, 1, 0."""
        text = (self.text(name) or "").lower()
        return True if text in ("true", "on", "1") else False if text in ("false", "off", "0") else None

    def span(self, name: str) -> timedelta | None:
        """A number of seconds; None where there is none or it stands for none (0)."""
        number = self.number(name)
        return timedelta(seconds=number) if number and 0 < number < 10**11 else None

    def times(self, name: str) -> list[datetime]:
        """All generalized times of an attribute that are real instants, in order."""
        instants = (generalized_time(text) for text in self.texts(name))
        return sorted(instant for instant in instants if instant is not None)

    def time(self, name: str) -> datetime | None:
        """A generalized time that is a real instant."""
        return next(iter(self.times(name)), None)


def attribute_name(described: str) -> str:
    """The attribute's name without options such as `;binary`, in small letters."""
    return described.partition(";")[0].lower()


@lru_cache(maxsize=1 << 17)
def normal_dn(dn: str) -> str:
    """A name with its spelling taken away: case, blanks around signs, ways of escaping.

    A text that is no name is itself, in small letters: it then matches only what is spelt alike.
    """
    try:
        parts = parse_dn(dn, escape=False, strip=True)
    except (LDAPInvalidDnError, IndexError, ValueError):
        return dn.strip().lower()
    return "".join(f"{kind.strip()}={_plain(value)}{sign}" for kind, value, sign in parts).lower()


def first_value(dn: str) -> str:
    """What the first part of a name says: `crew` of `cn=crew,ou=groups`; what is no name, as it stands."""
    try:
        ((_, value, _), *_) = parse_dn(dn, escape=False, strip=True)
    except (LDAPInvalidDnError, IndexError, ValueError):
        return dn.strip()
    return _ESCAPED.sub(lambda match: chr(int(match[1], 16)) if len(match[1]) == 2 else match[1], value)


def _plain(value: str) -> str:
    """Every escape in one form, so that `\\2c` and `\\,` are the same comma."""

    def plain(match: re.Match[str]) -> str:
        text = match[1]
        sign = chr(int(text, 16)) if len(text) == 2 else text
        return sign if sign.isalnum() else f"\\{ord(sign):02x}"

    return _ESCAPED.sub(plain, value.strip())


def generalized_time(text: str) -> datetime | None:
    """Read `20261124020732.229061Z`; None for a sentinel, before 1970 or no such time (RFC 4517 3.3.13)."""
    match = _TIME.fullmatch(text.strip())
    if match is None:
        return None
    try:
        plain = datetime(*(int(part or 0) for part in match.groups()[:6]))  # type: ignore[arg-type]
        fraction = int((match[7] or "0").ljust(6, "0")[:6])
        instant = plain.replace(tzinfo=UTC) + timedelta(microseconds=fraction) - _offset(match[8])
    except (ValueError, OverflowError):
        return None
    return instant if _FIRST < instant <= _LAST else None


def _offset(text: str) -> timedelta:
    if text == "Z":
        return timedelta()
    size = timedelta(hours=int(text[1:3]), minutes=int(text[3:5] or 0))
    return size if text[0] == "+" else -size


def filetime(number: int | None) -> datetime | None:
    """Read 100 ns since 1601-01-01; 0 and the largest number are sentinels: None."""
    if number is None or number <= 0:
        return None
    try:
        instant = _FILETIME_EPOCH + timedelta(microseconds=number // 10)
    except OverflowError:
        return None
    return instant if _FIRST < instant <= _LAST else None


def interval(number: int | None) -> timedelta | None:
    """A policy's negative interval of 100 ns; 0 and the most negative number mean none."""
    if number is None or number >= 0 or number <= -(2**63) + 1:
        return None
    return timedelta(microseconds=-number // 10)


def by_key(entries: Iterable[Entry]) -> dict[str, Entry]:
    """Entries by their names; the first of two of one name counts."""
    by_key: dict[str, Entry] = {}
    for entry in entries:
        by_key.setdefault(entry.key, entry)
    return by_key
