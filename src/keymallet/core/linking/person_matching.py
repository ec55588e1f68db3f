"""Whose an account is, worked out by the rules that an estate declares.

An account's own number of the person comes first. Where it has none, the declared rules are tried in turn;
the first that finds anybody decides: one person is the one, several are ambiguous and not guessed among.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass

import polars as pl

from keymallet.core.base.listing import some_names
from keymallet.core.base.source_names import is_of
from keymallet.core.facts.declaration import ACCOUNT, PERSON
from keymallet.core.facts.evidence import CANDIDATES, PERSON_ROW, UNREAD, with_unread
from keymallet.core.facts.reading import Reading
from keymallet.core.linking.declared import MATCHED_FACTS, MatchRule
from keymallet.core.linking.linked import LinkedReadings, LinkingRules, Said, of_sources
from keymallet.core.linking.matching_keys import account_key, login_key, person_key

BY_NUMBER = "number"
"""What `tied-by` says where the source itself gives the person's number."""
MOST_CANDIDATES = 10
_MOST_AMBIGUOUS_NAMED = 5


@dataclass(frozen=True)
class Roster:
    """The people known, and whether that is all of them: a roster that was not read leaves it open."""

    people: pl.DataFrame
    whole: bool

    @classmethod
    def of(cls, linked: LinkedReadings) -> Roster | None:
        """The roster that these readings hold; None where no source has one."""
        people = linked.frame(PERSON)
        if people is None:
            return None
        return cls(people, not any(map(_may_lack_people, linked.readings)))


def _may_lack_people(reading: Reading) -> bool:
    """Whether people of it may be missing; of a source never read before it is not known what it holds."""
    has_people = PERSON.name in reading.tables
    if reading.failed:
        return has_people or reading.read_at is None
    return has_people and bool(reading.incomplete)


def match_persons(linked: LinkedReadings, rules: LinkingRules) -> LinkedReadings:
    """Tell of each account whose it is, how that came about, and whether they stand in the roster."""
    roster = Roster.of(linked)
    if roster is None and not rules.match_rules:
        return linked
    matching = _Matching(linked, roster)
    for rule in rules.match_rules:
        matching.apply(rule)
    return matching.finished()


class _Matching:
    """The accounts while rules are tried on them, one after the other.

    A rule may rest on what an earlier one found out: the person of somebody's login in another source.
    """

    def __init__(self, linked: LinkedReadings, roster: Roster | None) -> None:
        self.linked = linked
        self.roster = roster
        accounts = linked.accounts
        wanted = dict.fromkeys(("person", "mail", "kind", *MATCHED_FACTS))
        absent = [name for name in wanted if name not in accounts.columns]
        nothing = pl.lit(None, dtype=pl.String)
        own = pl.col("person") if "person" in accounts.columns else nothing
        self.added = [name for name in absent if name != "person"]
        self.accounts = accounts.with_columns(nothing.alias(name) for name in absent)
        self.accounts = self.accounts.with_columns(
            pl.when(own.is_not_null()).then(pl.lit(BY_NUMBER)).alias("tied-by"),
            pl.lit(None, dtype=pl.List(pl.String)).alias(CANDIDATES),
        )

    # applying a rule

    def apply(self, rule: MatchRule) -> None:
        """Match the accounts for which this rule finds one person; note those for which it finds several."""
        covered = [
            reading for reading in self.linked.readings if rule.covers(reading.source) and not reading.failed
        ]
        kind = pl.col("kind").cast(pl.String)
        in_scope = of_sources(reading.source for reading in covered) & (
            kind.is_in(list(rule.kinds)) | kind.is_null()
        )
        unmatched = pl.col("person").is_null() & pl.col(CANDIDATES).is_null()
        known = self._people_by_key(rule)
        if known is None:
            self._leave_open(in_scope & unmatched)
            return
        keys = self.accounts.select(pl.when(in_scope & unmatched).then(account_key(rule)).alias("key"))
        people = keys.join(known, on="key", how="left", maintain_order="left")["people"]
        number = pl.col("people").list.len()
        one = pl.when(number == 1).then(pl.col("people").list.first())
        several = pl.when(number > 1).then(pl.col("people").list.head(MOST_CANDIDATES))
        self.accounts = (
            self.accounts.with_columns(people)
            .with_columns(
                pl.coalesce("person", one).alias("person"),
                pl.coalesce(CANDIDATES, several).alias(CANDIDATES),
                pl.when(one.is_not_null()).then(pl.lit(rule.text)).otherwise("tied-by").alias("tied-by"),
            )
            .drop("people")
        )
        silent = [
            reading.source for reading in covered if "person" not in reading.supply.get(ACCOUNT.name, {})
        ]
        self.linked = self.linked.supplying(silent, ACCOUNT, {"person": f"tied by {rule.text}"})

    def _people_by_key(self, rule: MatchRule) -> pl.DataFrame | None:
        """The `people` (numbers) that each `key` of the rule leads to; None where that cannot be told."""
        if rule.login_in:
            tellers = [reading for reading in self.linked.readings if is_of(reading.source, rule.login_in)]
            if not tellers or not all(
                "person" in reading.supply.get(ACCOUNT.name, {}) for reading in tellers
            ):
                return None
            known = self.accounts.filter(of_sources(reading.source for reading in tellers)).select(
                "person", key=login_key()
            )
        elif self.roster is None or not self.roster.whole:
            return None
        else:
            fact, key = person_key(rule)
            if fact not in self.roster.people.columns:
                return None
            known = self.roster.people.select("person", key=key)
        return known.drop_nulls().group_by("key").agg(pl.col("person").unique().sort().alias("people"))

    def _leave_open(self, which: pl.Expr) -> None:
        """Accounts that a rule might have matched, had it been able to: it is not known whose they are."""
        flags = self.accounts.select(which.alias("person"))["person"]
        if flags.any():
            self.accounts = with_unread(self.accounts, {"person": flags})

    # telling

    def finished(self) -> LinkedReadings:
        """The readings with what was found; what is ambiguous is unknown, not none."""
        linked = self.linked.saying(self._said())
        accounts = self.accounts.drop(self.added)
        ambiguous = accounts[CANDIDATES].is_not_null()
        if ambiguous.any():
            accounts = with_unread(accounts, {"person": ambiguous})
        else:
            accounts = accounts.drop(CANDIDATES)
        read = {reading.source for reading in linked.readings if not reading.failed}
        matched = [source for source in linked.suppliers(ACCOUNT, "person") if source in read]
        linked = linked.supplying(matched, ACCOUNT, {"tied-by": "the estate's ties, in turn"})
        linked = linked.with_frame(ACCOUNT, accounts)
        return linked if self.roster is None else _on_roster(linked, self.roster)

    def _said(self) -> Iterator[Said]:
        """For each source how many were matched by what, and which could be several people's."""
        counts = self.accounts.group_by("source", "tied-by").len().drop_nulls()
        ambiguous = self.accounts.filter(pl.col(CANDIDATES).is_not_null()).select(
            "source", "name", CANDIDATES
        )
        for reading in self.linked.readings:
            of_source = pl.col("source").cast(pl.String) == reading.source
            by_rule = dict(counts.filter(of_source).select("tied-by", "len").iter_rows())
            yield Said(reading.source, "tied", _of_tied, by_rule)
            several = ambiguous.filter(of_source)
            few = several.head(_MOST_AMBIGUOUS_NAMED).select("name", CANDIDATES)
            matches = tuple(f"{name} ({' or '.join(people)})" for name, people in few.iter_rows())
            yield Said(reading.source, "not tied", _of_untied, {"accounts": several.height}, matches)


def _of_tied(numbers: Mapping[str, int], _: Sequence[str]) -> str:
    most_first = sorted(numbers.items(), key=lambda each: (-each[1], each[0]))
    told = ", ".join(f"{number:,} by {how}" for how, number in most_first if number)
    return f"tied to people: {told}" if told else ""


def _of_untied(numbers: Mapping[str, int], names: Sequence[str]) -> str:
    shown = some_names(names, _MOST_AMBIGUOUS_NAMED, of=numbers["accounts"])
    return f"not tied, because it could be several people's: {shown}" if numbers["accounts"] else ""


def _on_roster(linked: LinkedReadings, roster: Roster) -> LinkedReadings:
    """Tie each account to the row of its person, and tell whether there is one."""
    people = roster.people.select("person").with_row_index(PERSON_ROW)
    accounts = linked.accounts.join(people, on="person", how="left", maintain_order="left")
    telling = linked.suppliers(ACCOUNT, "person")
    unread = (
        pl.col(UNREAD).list.contains(pl.lit("person")).fill_null(False)
        if UNREAD in accounts.columns
        else pl.lit(False)
    )
    surely_not = pl.lit(roster.whole) & of_sources(telling) & ~unread
    there = pl.col(PERSON_ROW).is_not_null() & (pl.lit(roster.whole) | ~_is_carried_over(accounts, roster))
    flag = pl.when(there).then(True).when(surely_not).then(False).alias("on-roster")
    return linked.with_frame(ACCOUNT, accounts.with_columns(flag)).supplying(
        telling, ACCOUNT, {"on-roster": "the roster, by the person's number"}
    )


def _is_carried_over(accounts: pl.DataFrame, roster: Roster) -> pl.Expr:
    """Whether an account's row of the roster only stands for a person known from an earlier reading.

    Of such a person nothing is known now, not even whether they are still on the roster.
    """
    if UNREAD not in roster.people.columns:
        return pl.lit(False)
    nothing_known = roster.people[UNREAD].list.len().fill_null(0) > 0
    return pl.lit(nothing_known.gather(accounts[PERSON_ROW]).fill_null(False))
