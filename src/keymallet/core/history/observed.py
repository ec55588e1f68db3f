"""What one judging found, as a frame that can be held against that of another."""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import cached_property

import polars as pl

from keymallet.core.base.columns import only
from keymallet.core.explaining.findings import Alike, alike, number_of
from keymallet.core.facts.declaration import ACCOUNT, TABLES
from keymallet.core.facts.evidence import ACCOUNT_ROW, source_column
from keymallet.core.facts.model import Table
from keymallet.core.history.columns import ACCOUNT_KEY, FINDING, KEYS, ROW, WHO
from keymallet.core.history.identity import (
    AccountKeys,
    Distinct,
    Identities,
    aliases,
    aliases_before,
    finding_ids,
)
from keymallet.core.judging.judge import Judgement
from keymallet.core.rulebook.model import Rule


@dataclass(frozen=True)
class Observed:
    """The findings of one judging, each known by its keys.

    `alike` are the findings as `describe` takes them; `frame` has a row for each, in the same order: FINDING,
    KEYS, ROW, `rule`, `verdict` (its word), `severity`, and WHO.
    """

    judgement: Judgement
    identities: Identities
    alike: list[Alike]
    frame: pl.DataFrame
    _before: list[Identities] = field(default_factory=list)

    @cached_property
    def of_each(self) -> list[tuple[Alike, pl.Series]]:
        """For each of `alike` the places of its findings in `frame`."""
        places, start = [], 0
        for found in self.alike:
            end = start + number_of(self.judgement, found)
            places.append((found, pl.int_range(start, end, eager=True)))
            start = end
        return places

    def part(self, found: list[Alike], start: int) -> Observed:
        """The same of some of them, which stand together in `frame` from this place on."""
        height = sum(number_of(self.judgement, each) for each in found)
        return Observed(self.judgement, self.identities, found, self.frame.slice(start, height), self._before)

    def identities_before(self, judgement: Judgement) -> Identities:
        """The keys in the evidence of the run before: its accounts go by what they are known by now."""
        if self._before:
            return self._before[0].alongside(judgement)
        now, before = (each.context.frames[ACCOUNT.name] for each in (self.judgement, judgement))
        keys = self.identities.of_table(ACCOUNT.name)[ACCOUNT_KEY]
        found = pl.concat([aliases_before(now, keys, before), self.identities.known_as])
        identities = Identities(judgement, found.unique("new", keep="first", maintain_order=True))
        identities.prepare(judgement.rulebook.rules)
        self._before.append(identities)
        return identities


def observe(
    judgement: Judgement, known: pl.DataFrame | None = None, found: list[Alike] | None = None
) -> Observed:
    """Find out what each finding is known by: of all there are, or of those that are `found`.

    For `known` see `Observer`. Raises ValueError if two of them are known by the same.
    """
    found = alike(judgement, together=True) if found is None else found
    observed = Observer(judgement, found, known).observed(found)
    distinct = Distinct()
    distinct.add(observed.frame[FINDING])
    distinct.check()
    return observed


class Observer:
    """Finds out what findings of one judging are known by; what that takes of each table is worked out once.

    `known` are the findings of the run before, as `Observed.frame` has them: by these an account is known
    again where its source gives lasting ids only now, or no longer. `found` are all findings it will be asked
    about, in one piece or in many.
    """

    def __init__(self, judgement: Judgement, found: list[Alike], known: pl.DataFrame | None = None) -> None:
        self.judgement = judgement
        accounts = judgement.context.frames[ACCOUNT.name]
        keys = AccountKeys(accounts)
        other = None if known is None else aliases(known, accounts, keys.of_all())
        self.identities = Identities(judgement, other, keys)
        self.identities.prepare(each.demand for each in found if each.rows is not None)

    def observed(self, found: list[Alike]) -> Observed:
        """What these are known by."""
        parts = [_nothing()]
        for each in found:
            keys = self.identities.of_findings(each)
            parts.append(
                keys.hstack(_who(self.judgement, each, keys[ROW])).with_columns(
                    pl.lit(each.demand.id).alias("rule"),
                    pl.lit(each.verdict.word).alias("verdict"),
                    pl.lit(each.demand.severity.word).alias("severity"),
                )
            )
        frame = pl.concat(parts)
        return Observed(self.judgement, self.identities, found, frame.with_columns(finding_ids(frame)))


def _nothing() -> pl.DataFrame:
    texts = dict.fromkeys(("rule", "verdict", "severity"), pl.String())
    return pl.DataFrame(schema={**dict.fromkeys(KEYS, pl.String()), ROW: pl.UInt32(), **WHO, **texts})


def _who(judgement: Judgement, found: Alike, rows: pl.Series) -> pl.DataFrame:
    """WHO of findings of one rule."""
    if not isinstance(found.demand, Rule) or found.rows is None:
        return pl.DataFrame(schema=WHO).clear(len(rows))
    return _who_of(judgement.context.frames, TABLES[found.demand.table], rows)


def _who_of(frames: dict[str, pl.DataFrame], table: Table, rows: pl.Series) -> pl.DataFrame:
    """WHO of these rows of a table."""
    accounts = frames[ACCOUNT.name]
    if table is ACCOUNT:
        return _accounts(accounts, rows)
    if table.of_account:
        frame = only(frames[table.name], ("account", ACCOUNT_ROW))[rows]
        owners = _accounts(accounts, frame[ACCOUNT_ROW])
        return owners.with_columns(pl.coalesce("account", frame["account"]))
    frame = frames[table.name][rows]
    source = frame[source_column(table)].cast(pl.String)
    told = (
        pl.DataFrame(schema=WHO)
        .clear(frame.height)
        .with_columns(source.alias("source"), source.alias("account"))
    )
    return told.with_columns(frame["unit"]) if "unit" in frame.columns else told


def _accounts(accounts: pl.DataFrame, rows: pl.Series) -> pl.DataFrame:
    """WHO of accounts; null where there is no row."""
    return only(accounts, WHO)[rows].select(pl.col(name).cast(pl.String) for name in WHO)
