"""Whose an account is: the ties that an estate declares between accounts and people, worked out as columns.

An account's own number of the person comes first. Where it has none, the declared ties are tried in turn;
the first that finds anybody decides: one person is the one, several are ambiguous and not guessed among.
"""

from __future__ import annotations

from dataclasses import dataclass
from fnmatch import fnmatchcase

import polars as pl

from keymallet.core.facts.declaration import ACCOUNT, PERSON
from keymallet.core.facts.evidence import CANDIDATES, PERSON_ROW, UNREAD, with_unread
from keymallet.core.facts.reading import Reading, is_of

BY_NUMBER = "number"
"""What `tied-by` says where the source itself gives the person's number."""
MOST_CANDIDATES = 10
TAKEN = ("name", "mail", "display", "stable-id", "owner")
"""Facts of an account that a tie can go by."""
FOUND_BY = ("person", "mail", "mail-name", "name")
"""What of a person a tie can find them by; `mail-name` is the part of the address before the @."""


@dataclass(frozen=True)
class Tie:
    """One way to tell whose an account is.

    Of the account's fact `account`, as far as it looks `like` the pattern, the part that * stands for is
    held against the `person`'s, or against the logins of the source `login_in`, in any case of letters.
    `sources` are patterns of source names; `kinds` are the kinds of account it is for.
    """

    account: str = "name"
    like: str = "*"
    person: str = ""
    login_in: str = ""
    sources: tuple[str, ...] = ("*",)
    kinds: tuple[str, ...] = ("person", "guest")

    @property
    def text(self) -> str:
        """How it is told of an account that it tied."""
        pattern = "" if self.like == "*" else f" like {self.like}"
        found_by = f"login in {self.login_in}" if self.login_in else f"{self.person} of the roster"
        return f"{self.account}{pattern} = {found_by}"

    def covers(self, source: str) -> bool:
        """Whether it is for accounts of this source."""
        return any(is_of(source, pattern) or fnmatchcase(source, pattern) for pattern in self.sources)


@dataclass(frozen=True)
class Roster:
    """The people known, and whether that is all of them: a roster that was not read leaves it open."""

    people: pl.DataFrame
    whole: bool

    @classmethod
    def of(cls, readings: list[Reading], tables: dict[str, pl.DataFrame]) -> Roster | None:
        """The roster that these readings hold; None where no source has one."""
        people = tables.get(PERSON.name)
        if people is None:
            return None
        return cls(people, not any(map(_may_lack_people, readings)))


def _may_lack_people(reading: Reading) -> bool:
    """Whether people of it may be missing; of a source never read before it is not known what it holds."""
    has_people = PERSON.name in reading.tables
    if reading.failed:
        return has_people or not reading.tables[ACCOUNT.name].height
    return has_people and bool(reading.incomplete)


def tie_to_persons(readings: list[Reading], tables: dict[str, pl.DataFrame], ties: tuple[Tie, ...]) -> None:
    """Tell of each account whose it is, how that came about, and whether they stand in the roster."""
    roster = Roster.of(readings, tables)
    if roster is None and not ties:
        return
    tied = _Tied(readings, tables[ACCOUNT.name], roster)
    for tie in ties:
        tied.try_tie(tie)
    tied.remark()
    tables[ACCOUNT.name] = tied.finished()


class _Tied:
    """The accounts while ties are tried on them, one after the other."""

    def __init__(self, readings: list[Reading], accounts: pl.DataFrame, roster: Roster | None) -> None:
        self.readings = readings
        self.roster = roster
        absent = [name for name in ("person", "mail", "kind", *TAKEN) if name not in accounts.columns]
        nothing = pl.lit(None, dtype=pl.String)
        own = pl.col("person") if "person" in accounts.columns else nothing
        self.added = [name for name in absent if name != "person"]
        self.accounts = accounts.with_columns(nothing.alias(name) for name in dict.fromkeys(absent))
        self.accounts = self.accounts.with_columns(
            pl.when(own.is_not_null()).then(pl.lit(BY_NUMBER)).alias("tied-by"),
            pl.lit(None, dtype=pl.List(pl.String)).alias(CANDIDATES),
        )

    # trying

    def try_tie(self, tie: Tie) -> None:
        """Tie the accounts that this tie finds one person for; note those for which it finds several."""
        covered = [reading for reading in self.readings if tie.covers(reading.source) and not reading.failed]
        names = pl.Series([reading.source for reading in covered], dtype=pl.String)
        kind = pl.col("kind").cast(pl.String)
        in_scope = pl.col("source").cast(pl.String).is_in(names.implode()) & (
            kind.is_in(list(tie.kinds)) | kind.is_null()
        )
        still = pl.col("person").is_null() & pl.col(CANDIDATES).is_null()
        known = self._known_by(tie)
        if known is None:
            self._leave_open(in_scope & still)
            return
        before, _, after = tie.like.lower().partition("*")
        value = pl.col(tie.account).str.strip_chars().str.to_lowercase()
        fits = value.str.starts_with(before) & value.str.ends_with(after)
        piece = value.str.strip_prefix(before).str.strip_suffix(after)
        asked = self.accounts.select(
            pl.when(in_scope & still & fits & (piece != "")).then(piece).alias("key")
        )
        found = asked.join(known, on="key", how="left", maintain_order="left")["people"]
        one = pl.when(pl.col("found").list.len() == 1).then(pl.col("found").list.first())
        several = pl.when(pl.col("found").list.len() > 1).then(pl.col("found").list.head(MOST_CANDIDATES))
        self.accounts = (
            self.accounts.with_columns(found.alias("found"))
            .with_columns(
                pl.coalesce("person", one).alias("person"),
                pl.coalesce(CANDIDATES, several).alias(CANDIDATES),
                pl.when(one.is_not_null()).then(pl.lit(tie.text)).otherwise("tied-by").alias("tied-by"),
            )
            .drop("found")
        )
        for reading in covered:
            said = reading.supply.setdefault(ACCOUNT.name, {})
            said.setdefault("person", f"tied by {tie.text}")

    def _known_by(self, tie: Tie) -> pl.DataFrame | None:
        """Whom each value of what the tie finds people by leads to; None where that cannot be told."""
        if tie.login_in:
            tellers = [reading for reading in self.readings if is_of(reading.source, tie.login_in)]
            if not tellers or not all(
                "person" in reading.supply.get(ACCOUNT.name, {}) for reading in tellers
            ):
                return None
            theirs = pl.Series([reading.source for reading in tellers], dtype=pl.String)
            there = self.accounts.filter(pl.col("source").cast(pl.String).is_in(theirs.implode()))
            known = there.select("person", key="name")
        elif self.roster is None or not self.roster.whole:
            return None
        else:
            fact = "mail" if tie.person == "mail-name" else tie.person
            if fact not in self.roster.people.columns:
                return None
            key = pl.col(fact)
            key = key.str.extract(r"^([^@]+)@", 1) if tie.person == "mail-name" else key
            known = self.roster.people.select("person", key=key)
        folded = known.with_columns(pl.col("key").str.strip_chars().str.to_lowercase()).drop_nulls()
        return folded.group_by("key").agg(pl.col("person").unique().sort().alias("people"))

    def _leave_open(self, which: pl.Expr) -> None:
        """Accounts that a tie might have tied, had it been able to: it is not known whose they are."""
        flags = self.accounts.select(which.alias("person"))["person"]
        if flags.any():
            self.accounts = with_unread(self.accounts, {"person": flags})

    # telling

    def remark(self) -> None:
        """Say of each source how many were tied by what, and which could be several people's."""
        counts = self.accounts.group_by("source", "tied-by").len().drop_nulls()
        ambiguous = self.accounts.filter(pl.col(CANDIDATES).is_not_null()).select(
            "source", "name", CANDIDATES
        )
        for reading in self.readings:
            mine = counts.filter(pl.col("source").cast(pl.String) == reading.source)
            told = [
                f"{number:,} by {how}"
                for how, number in mine.select("tied-by", "len").sort("len", descending=True).iter_rows()
            ]
            if told:
                reading.remarks.append(f"tied to people: {', '.join(told)}")
            open_ones = ambiguous.filter(pl.col("source").cast(pl.String) == reading.source)
            if open_ones.height:
                shown = ", ".join(
                    f"{name} ({' or '.join(people)})"
                    for name, people in open_ones.select("name", CANDIDATES).head(5).iter_rows()
                )
                more = f" and {open_ones.height - 5:,} more" if open_ones.height > 5 else ""
                reading.remarks.append(f"not tied, because it could be several people's: {shown}{more}")

    def finished(self) -> pl.DataFrame:
        """The accounts with what was found; what is ambiguous is unknown, not none."""
        accounts = self.accounts.drop(self.added)
        ambiguous = accounts[CANDIDATES].is_not_null()
        if ambiguous.any():
            accounts = with_unread(accounts, {"person": ambiguous})
        else:
            accounts = accounts.drop(CANDIDATES)
        for reading in self.readings:
            if not reading.failed and "person" in reading.supply.get(ACCOUNT.name, {}):
                reading.supply[ACCOUNT.name]["tied-by"] = "the estate's ties, in turn"
        return accounts if self.roster is None else _on_roster(accounts, self.roster, self.readings)


def _on_roster(accounts: pl.DataFrame, roster: Roster, readings: list[Reading]) -> pl.DataFrame:
    """Tie each account to the row of its person, and tell whether there is one."""
    people = roster.people.select("person").with_row_index(PERSON_ROW)
    linked = accounts.join(people, on="person", how="left", maintain_order="left")
    told = [reading.source for reading in readings if "person" in reading.supply.get(ACCOUNT.name, {})]
    is_told = pl.col("source").cast(pl.String).is_in(pl.Series(told, dtype=pl.String).implode())
    unread = (
        pl.col(UNREAD).list.contains(pl.lit("person")).fill_null(False)
        if UNREAD in accounts.columns
        else pl.lit(False)
    )
    surely_not = pl.lit(roster.whole) & is_told & ~unread
    for reading in readings:
        if reading.source in told:
            reading.supply[ACCOUNT.name]["on-roster"] = "the roster, by the person's number"
    found = pl.col(PERSON_ROW).is_not_null() & (pl.lit(roster.whole) | ~_is_open(linked, roster))
    return linked.with_columns(pl.when(found).then(True).when(surely_not).then(False).alias("on-roster"))


def _is_open(linked: pl.DataFrame, roster: Roster) -> pl.Expr:
    """Whether the person's row only stands for one known from before, of whom nothing is known now."""
    if UNREAD not in roster.people.columns:
        return pl.lit(False)
    nothing = roster.people[UNREAD].list.len().fill_null(0) > 0
    rows = linked[PERSON_ROW]
    return pl.lit(nothing.gather(rows).fill_null(False))
