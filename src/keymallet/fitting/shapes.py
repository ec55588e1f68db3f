"""What the values of a column look like: dates, yes and no, mail addresses, lists, words for nothing."""

from __future__ import annotations

import re
from dataclasses import dataclass
from functools import cached_property

from keymallet.fitting.dates import looks_like_a_date
from keymallet.fitting.sample import MAIL, SampledColumn
from keymallet.fitting.vocabulary import squeezed, vocabulary

_SECRET = re.compile(r"\$[\w-]+\$|\{[A-Z0-9-]+\}\S{8}|(?=\S*\d)(?=\S*[A-Za-z])[A-Za-z0-9+/_=-]{20}")
_UUID = re.compile(r"\{?[0-9a-fA-F]{8}(-[0-9a-fA-F]{4}){3}-[0-9a-fA-F]{12}\}?")
_LIST_MARKS = (";", "|", ",", "\n", "/")


@dataclass(frozen=True)
class Shape:
    """A column, seen by its values. Shares are of the rows in which something is told."""

    column: SampledColumn

    @cached_property
    def none(self) -> list[str]:
        """The values that stand for nothing, as they are written."""
        return [value for value in self.column.values if squeezed(value) in vocabulary().none]

    @cached_property
    def unknown(self) -> list[str]:
        """The values that stand for not knowing."""
        return [value for value in self.column.values if squeezed(value) in vocabulary().unknown]

    @cached_property
    def told(self) -> dict[str, int]:
        """The values that tell something, with how often they do."""
        nothing = {*self.none, *self.unknown}
        return {value: times for value, times in self.column.values.items() if value not in nothing}

    @cached_property
    def total(self) -> int:
        """How many rows tell something."""
        return sum(self.told.values())

    def share(self, values: set[str]) -> float:
        """How many of the rows hold one of these values."""
        return sum(times for value, times in self.told.items() if value in values) / (self.total or 1)

    def left_by(self, values: set[str]) -> set[str]:
        """The values that are none of these."""
        return self.told.keys() - values

    @cached_property
    def true(self) -> list[str]:
        """The values that say yes."""
        return [value for value in self.column.values if squeezed(value) in vocabulary().true]

    @cached_property
    def false(self) -> list[str]:
        """The values that say no."""
        return [value for value in self.column.values if squeezed(value) in vocabulary().false]

    @cached_property
    def distinct(self) -> float:
        """How much the values differ: 1 where none stands twice."""
        nothing = len(self.none) + len(self.unknown)
        return (self.column.distinct - nothing) / self.rows_told if self.rows_told else 0.0

    @cached_property
    def rows_told(self) -> int:
        """In how many rows of the whole column something is told."""
        return self.column.filled - sum(self.column.values[value] for value in (*self.none, *self.unknown))

    @cached_property
    def mails(self) -> float:
        """The share of mail addresses."""
        return self.share({value for value in self.told if MAIL.fullmatch(value)})

    @cached_property
    def numbers(self) -> float:
        """The share of whole numbers."""
        return self.share({value for value in self.told if value.isascii() and value.isdigit()})

    @cached_property
    def several_words(self) -> float:
        """The share of values with a blank in the middle: names of people, sentences."""
        return self.share({value for value in self.told if " " in value})

    @cached_property
    def may_be_login(self) -> bool:
        """Whether each row has a word of its own here that could be what somebody signs in with."""
        alike = self.mails > 0.5 or self.dates > 0.5 or self.numbers > 0.5 or self.may_be_secret
        return self.distinct > 0.98 and self.several_words < 0.1 and self.total > 1 and not alike

    @cached_property
    def dates(self) -> float:
        """The share of what is written like a date beyond doubt."""
        return self.share({value for value in self.told if looks_like_a_date(value)})

    @cached_property
    def may_be_secret(self) -> bool:
        """Whether values look like keys, hashes or tokens: such are not shown to anybody."""
        return (
            self.share({value for value in self.told if _SECRET.search(value) and not _UUID.fullmatch(value)})
            > 0.2
        )

    @cached_property
    def list_mark(self) -> str:
        """What stands between the members where the cells are lists; empty where they are not."""
        if self.column.is_list or self.mails > 0.9 or self.dates > 0.9:
            return ""
        shares = {mark: self.share({value for value in self.told if mark in value}) for mark in _LIST_MARKS}
        best = max(shares, key=lambda mark: shares[mark])
        return best if shares[best] >= 0.02 else ""
