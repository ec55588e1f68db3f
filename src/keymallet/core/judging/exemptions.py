"""Whom an exemption covers, and what becomes of breaches that are covered.

A pattern with a slash is held against `source/name`, one without against the login name in any source.
For what is in force in a system, and for people, the account is what findings name there: the source.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import UTC, datetime
from fnmatch import fnmatchcase
from functools import cached_property

import polars as pl

from keymallet.core.evaluating.steps import END, ROW
from keymallet.core.facts.declaration import ACCOUNT, TABLES
from keymallet.core.facts.evidence import ACCOUNT_ROW, INSTANT, source_column
from keymallet.core.language.lowering import AT
from keymallet.core.language.patterns import like_to_regex
from keymallet.core.rulebook.model import Rule
from keymallet.core.rulebook.register import Exemption, Register

ENTRY = "entry"
"""The place of an exemption in the register."""
_WILD = frozenset("*?")
_EARLIEST = datetime(1970, 1, 1, tzinfo=UTC)


def matching(names: pl.Series, patterns: tuple[str, ...]) -> pl.Series:
    """Whether each `source/name` is matched by one of the patterns."""
    matched = pl.repeat(False, len(names), dtype=pl.Boolean, eager=True)
    plain = [pattern for pattern in patterns if not _WILD & set(pattern)]
    whole = pl.Series([pattern for pattern in plain if "/" in pattern], dtype=pl.String)
    if len(whole):
        matched |= names.is_in(whole.implode())
    # Whole names were looked up in one go above; what is left are patterns, and names without a source.
    for pattern in patterns:
        if pattern in plain and "/" in pattern:
            continue
        regex = like_to_regex(pattern)
        if "/" not in pattern:
            # A login name is what follows the last slash; where there is none, the whole.
            regex = regex.replace("^", "^(?:.*/)?", 1)
        matched |= names.str.contains(regex).fill_null(False)
    return matched


def covers_rule(exemption: Exemption, rule: str) -> bool:
    """Whether an exemption is about a rule."""
    return any(fnmatchcase(rule, pattern) for pattern in exemption.rules)


@dataclass(frozen=True)
class Covers:
    """The register, held against accounts and sources: what each entry covers."""

    register: Register
    accounts: pl.Series
    """`source/name` of each account."""
    _of: dict[str, pl.DataFrame] = field(default_factory=dict)

    @cached_property
    def members(self) -> list[pl.Series]:
        """For each entry the rows of the accounts it covers."""
        return [
            matching(self.accounts, entry.accounts).arg_true().cast(pl.UInt32)
            for entry in self.register.exemptions
        ]

    def _members_of(self, place: int, patterns: tuple[str, ...]) -> pl.Series:
        """The accounts that a term of an entry covers; as a rule those of the entry itself."""
        if patterns == self.register.exemptions[place].accounts:
            return self.members[place]
        return matching(self.accounts, patterns).arg_true().cast(pl.UInt32)

    def touches(self, rule: Rule) -> bool:
        """Whether any entry is about the rule."""
        return any(covers_rule(entry, rule.id) for entry in self.register.exemptions)

    def of(self, rule: Rule, frame: pl.DataFrame) -> pl.DataFrame:
        """Which rows of a rule's table each entry covers: ROW, ENTRY, and `from` and `until` of it."""
        if rule.id not in self._of:
            self._of[rule.id] = self._worked_out(rule, frame)
        return self._of[rule.id]

    def _worked_out(self, rule: Rule, frame: pl.DataFrame) -> pl.DataFrame:
        parts = [pl.DataFrame(schema={ROW: pl.UInt32, ENTRY: pl.UInt32, "from": INSTANT, "until": INSTANT})]
        table = TABLES[rule.table]
        for place, entry in enumerate(self.register.exemptions):
            if not covers_rule(entry, rule.id):
                continue
            for term in entry.in_terms:
                if not (table is ACCOUNT or table.of_account):
                    rows = matching(frame[source_column(table)].cast(pl.String), term.accounts).arg_true()
                elif table is ACCOUNT:
                    rows = self._members_of(place, term.accounts)
                else:
                    members = self._members_of(place, term.accounts)
                    rows = frame[ACCOUNT_ROW].is_in(members.implode()).fill_null(False).arg_true()
                parts.append(
                    pl.DataFrame({ROW: rows.cast(pl.UInt32)}).with_columns(
                        pl.lit(place, dtype=pl.UInt32).alias(ENTRY),
                        pl.lit(term.start or _EARLIEST, dtype=INSTANT).alias("from"),
                        pl.lit(term.end or END, dtype=INSTANT).alias("until"),
                    )
                )
        return pl.concat(parts)


def in_force(covers: pl.DataFrame, at: datetime) -> pl.DataFrame:
    """The entries that hold at an instant, of those that cover rows."""
    now = pl.lit(at, dtype=INSTANT)
    return covers.filter((pl.col("from") <= now) & (now < pl.col("until")))


def past_cover(breaches: pl.DataFrame, covers: pl.DataFrame) -> pl.DataFrame:
    """Stretches of breach (ROW, AT, `to`), each from where no exemption covers it any longer.

    What is covered to its end is left out. An exemption that begins within a stretch does not end it.
    """
    # One entry's end may lie within another entry: go on until no cover reaches the start of a stretch.
    while True:
        reached = (
            breaches.with_row_index("place")
            .join(covers, on=ROW, how="inner")
            .filter((pl.col("from") <= pl.col(AT)) & (pl.col(AT) < pl.col("until")))
            .group_by("place")
            .agg(pl.col("until").max())
        )
        if not reached.height:
            return breaches
        moved = breaches.with_row_index("place").join(reached, on="place", how="left", maintain_order="left")
        moved = moved.with_columns(pl.coalesce("until", AT).alias(AT)).drop("place", "until")
        breaches = moved.filter(pl.col(AT) < pl.col("to"))
