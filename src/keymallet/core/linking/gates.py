"""Whom the sign-in requirements of a system ask for more, whom they leave out, and who falls between them.

A gate names accounts, groups, kinds of account or everyone, twice: whom it covers, and whom of these it
leaves out. Only what is `in-force` asks anybody for anything; what is `on-trial` lets everybody through
and writes it down. Truths are columns of flags over the accounts, null where it cannot be told.
"""

from __future__ import annotations

import functools
import operator
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

import polars as pl

from keymallet.core.base.word_lists import words_that_hold
from keymallet.core.facts.declaration import ACCOUNT, GATE, words_of
from keymallet.core.facts.evidence import UNREAD, with_unread
from keymallet.core.facts.reading import Reading
from keymallet.core.linking.federation import hops, longest
from keymallet.core.linking.linked import LinkedReadings, LinkingRules

EVERYONE = "everyone"
EVERYTHING = frozenset({"*", "everything"})
"""Words among a gate's applications that stand for all there are."""

ON_ACCOUNTS = (
    *("covered-by", "left-out-by", "watched-by"),
    *("second-factor-required", "phishing-resistant-required", "accepted-factors"),
)
ON_REQUIREMENTS = ("second-factor-required", "phishing-resistant-required")
ON_GATES = ("asks-accounts", "leaves-out-accounts", "names-nobody")
COUNTED = ("asks-accounts", "leaves-out-accounts")
"""Facts of gates that are counts of accounts: they add up, and are unknown where one part is."""
_NO_SECOND = frozenset({"password", "email", "recovery-codes"})
"""What a gate may ask for without asking for a second factor."""
_RESISTANT = frozenset({"phishing-resistant", "hardware-key", "passkey", "smartcard"})
"""What a gate may ask for so that nothing which a false site can relay is enough."""
_SECOND_FACTORS = words_of(ACCOUNT, "accepted-factors")
_SAID = "second-factor-enforced"
_KINDS = frozenset(words_of(ACCOUNT, "kind"))
_NAMES = pl.List(pl.String)


@dataclass(frozen=True)
class Gate:
    """One gate; None is what is not known of it. No applications at all stand for all there are."""

    name: str
    state: str | None = "in-force"
    asks_for: tuple[str, ...] | None = ("any-second",)
    covers: tuple[str, ...] | None = (EVERYONE,)
    leaves_out: tuple[str, ...] | None = ()
    applications: tuple[str, ...] | None = ()

    @property
    def words(self) -> tuple[str, ...]:
        """All that it names, whether to cover it or to leave it out."""
        return (*(self.covers or ()), *(self.leaves_out or ()))

    @property
    def asks_second(self) -> bool | None:
        """Whether it asks for a second factor, for whatever one signs in to."""
        return self._asks_everywhere(lambda asked: not _NO_SECOND & asked)

    @property
    def asks_resistant(self) -> bool | None:
        """Whether nothing that a false site can relay is enough, for whatever one signs in to."""
        return self._asks_everywhere(lambda asked: asked <= _RESISTANT)

    def accepts(self, kind: str) -> bool:
        """Whether this second factor is enough for what it asks; where that is not known, any is."""
        asked = set(self.asks_for or ("any-second",))
        resistant = "phishing-resistant" in asked and kind in _RESISTANT
        return "any-second" in asked or kind in asked or resistant

    def _asks_everywhere(self, enough: Callable[[set[str]], bool]) -> bool | None:
        """Whether it guards all there is, and asks for what is `enough`."""
        if self.asks_for is None or self.applications is None:
            return None
        everywhere = not self.applications or bool(EVERYTHING & set(self.applications))
        return everywhere and bool(self.asks_for) and enough(set(self.asks_for))


@dataclass(frozen=True)
class Named:
    """What the words of one source's gates name among its accounts.

    `accounts` and `groups` are the words that name any; `untold` says whether of some account the groups are
    not known, `proven` whether some account is proven by another.
    """

    accounts: frozenset[str] = frozenset()
    groups: frozenset[str] = frozenset()
    untold: bool = False
    proven: bool = False

    def __or__(self, other: Named) -> Named:
        return Named(
            self.accounts | other.accounts,
            self.groups | other.groups,
            self.untold or other.untold,
            self.proven or other.proven,
        )


def named_by_gates(linked: LinkedReadings, rules: LinkingRules, _: None) -> dict[str, Named]:
    """What the gates of each source name, by the source."""
    accounts = linked.accounts
    named: dict[str, Named] = {}
    if linked.suppliers(GATE):
        gates = linked.frame(GATE)
        for reading in linked.readings:
            mine, its = _of_reading(reading, accounts, gates)
            words = {word for gate in its for word in gate.words}
            named[reading.source] = _Naming(mine, words).here()
    if "proven-by" in accounts.columns:
        proven = accounts.filter(pl.col("proven-by").is_not_null())["source"].cast(pl.String).unique()
        named.update({source: replace(named.get(source, Named()), proven=True) for source in proven})
    return named


def named_by_any(parts: Sequence[dict[str, Named]]) -> dict[str, Named]:
    """What the gates of each source name among all its accounts."""
    sources = dict.fromkeys(source for part in parts for source in part)
    return {
        source: functools.reduce(operator.or_, (part.get(source, Named()) for part in parts))
        for source in sources
    }


def _of_reading(
    reading: Reading, accounts: pl.DataFrame, gates: pl.DataFrame | None
) -> tuple[pl.DataFrame, list[Gate]]:
    """The accounts and the gates of one source."""
    from_here = pl.col("source").cast(pl.String) == reading.source
    rows = [] if gates is None else gates.filter(from_here).iter_rows(named=True)
    return accounts.filter(from_here), [_gate(row, reading.supply.get(GATE.name, {})) for row in rows]


def mark_gates(linked: LinkedReadings, rules: LinkingRules, named: dict[str, Named] | None) -> LinkedReadings:
    """Enter on accounts which gates ask them, leave them out or are on trial; on gates, whom they reach."""
    known = named or {}
    return _as_provers_are_asked(_by_gates(_as_systems_say(linked), known), known)


def _by_gates(linked: LinkedReadings, named: Mapping[str, Named]) -> LinkedReadings:
    suppliers = linked.suppliers(GATE)
    if not suppliers:
        return linked
    accounts = linked.accounts.with_row_index("row")
    gates = linked.frame(GATE)
    numbered = (pl.DataFrame(schema={"source": pl.String}) if gates is None else gates).with_row_index("row")
    on_accounts, on_gates = [], []
    for reading in linked.readings:
        if reading.source not in suppliers:
            continue
        mine, its = _of_reading(reading, accounts, numbered)
        reached = reach(mine, its, named.get(reading.source))
        on_accounts.append(reached.on_accounts.with_columns(mine["row"]))
        rows = numbered.filter(pl.col("source").cast(pl.String) == reading.source)["row"]
        on_gates.append(reached.on_gates.with_columns(rows))
    linked = linked.with_frame(ACCOUNT, _joined(accounts, pl.concat(on_accounts), ON_ACCOUNTS))
    linked = linked.supplying(suppliers, ACCOUNT, dict.fromkeys(ON_ACCOUNTS, "its gates"))
    if gates is not None:
        linked = linked.with_frame(GATE, _joined(numbered, pl.concat(on_gates), ON_GATES))
    return linked.supplying(suppliers, GATE, dict.fromkeys(ON_GATES, "its accounts"))


def _as_systems_say(linked: LinkedReadings) -> LinkedReadings:
    """Take over what systems say themselves of whom they ask for a second factor."""
    telling = linked.suppliers(ACCOUNT, _SAID)
    if not telling or _SAID not in linked.accounts.columns:
        return linked
    accounts = linked.accounts.with_columns(pl.col(_SAID).alias("second-factor-required"))
    return linked.with_frame(ACCOUNT, accounts).supplying(
        telling, ACCOUNT, {"second-factor-required": "what its system says"}
    )


def _as_provers_are_asked(linked: LinkedReadings, named: Mapping[str, Named]) -> LinkedReadings:
    """Of accounts that another proves: what that one is asked for, these are asked for as well."""
    accounts = linked.accounts
    sources = [source for source, its in named.items() if its.proven]
    if not sources:
        return linked
    told = {name: name for name in ON_REQUIREMENTS if name in accounts.columns}
    if not told:
        return linked
    asked = accounts.select("account", "proven-by", *told, hops(accounts))
    # Whoever proves another may be proven itself: those next to the last one first.
    for number in range(1, longest(asked["hops"]) + 1):
        there = asked.select(
            pl.col("account").alias("proven-by"), *(pl.col(n).alias(f"{n} there") for n in told)
        )
        joined = asked.join(there, on="proven-by", how="left", maintain_order="left")
        here = pl.col("hops") == number
        asked = joined.select(
            *("account", "proven-by", "hops"),
            *(
                pl.when(here).then(pl.col(name) | pl.col(f"{name} there")).otherwise(name).alias(name)
                for name in told
            ),
        )
    unread = {name: asked[name].is_null() & accounts["proven-by"].is_not_null() for name in told}
    marked = with_unread(
        accounts.with_columns(asked.select(*told)), {name: it for name, it in unread.items() if it.any()}
    )
    how = "its gates, and those of the account that proves it"
    return linked.with_frame(ACCOUNT, marked).supplying(sources, ACCOUNT, dict.fromkeys(told, how))


def _gate(row: dict[str, Any], supply: Mapping[str, str]) -> Gate:
    unread = row.get(UNREAD) or ()

    def told(name: str) -> tuple[str, ...] | None:
        """The list; none at all is an empty one where the source tells of such lists."""
        value = row.get(name)
        if value is None:
            return () if name in supply and name not in unread else None
        return tuple(value)

    return Gate(
        str(row["gate"]),
        row.get("state"),
        told("asks-for"),
        told("covers"),
        told("leaves-out"),
        told("applications") if "applications" in supply else (),
    )


def _joined(frame: pl.DataFrame, found_for_rows: pl.DataFrame, names: Sequence[str]) -> pl.DataFrame:
    """The frame with what was found for some of its rows; what could not be told there is unread.

    Other rows keep what they may have had under these names.
    """
    before = {name: f"{name} before" for name in names if name in frame.columns}
    found = found_for_rows.with_columns(there=True)
    matched = frame.rename(before).join(found, on="row", how="left", maintain_order="left")
    matched = matched.with_columns(
        pl.when("there").then(name).otherwise(was).alias(name) for name, was in before.items()
    ).drop(before.values())
    unread = {name: matched[name].is_null() & matched["there"].fill_null(False) for name in names}
    marked = {name: where for name, where in unread.items() if where.any()}
    return with_unread(matched.drop("row", "there"), marked)


@dataclass(frozen=True)
class Reach:
    """What the gates of one source come to: the columns ON_ACCOUNTS for its accounts, ON_GATES for them."""

    on_accounts: pl.DataFrame
    on_gates: pl.DataFrame


def reach(accounts: pl.DataFrame, gates: Sequence[Gate], named: Named | None = None) -> Reach:
    """Which of one source's gates reach which of its accounts (`name`, `kind`, `groups`, `enabled`).

    `named` is what they name among all accounts of the source, if these are not all.
    """
    naming = _Naming(accounts, {word for gate in gates for word in gate.words}, named)
    asks, lets_by = [], []
    for gate in gates:
        covered, out = naming.named(gate.covers), naming.named(gate.leaves_out)
        asks.append(covered & ~out)
        lets_by.append(covered & out)
    in_force = [_in_state(truth, gate, "in-force") for truth, gate in zip(asks, gates, strict=True)]
    let_by = [_in_state(truth, gate, "in-force") for truth, gate in zip(lets_by, gates, strict=True)]
    watched = [_in_state(truth, gate, "on-trial") for truth, gate in zip(asks, gates, strict=True)]
    second = [_both(truth, gate.asks_second) for truth, gate in zip(in_force, gates, strict=True)]
    resistant = [_both(truth, gate.asks_resistant) for truth, gate in zip(in_force, gates, strict=True)]
    nobody = pl.repeat(False, accounts.height, dtype=pl.Boolean, eager=True)
    accepted = []
    for kind in _SECOND_FACTORS:
        # Who is asked by several gates has to have what each of them accepts.
        refused = [truth for truth, gate in zip(second, gates, strict=True) if not gate.accepts(kind)]
        accepted.append((kind, ~functools.reduce(operator.or_, refused, nobody).fill_null(False)))
    return Reach(
        pl.DataFrame(
            [
                _names(gates, in_force, accounts.height).alias("covered-by"),
                _names(gates, let_by, accounts.height).alias("left-out-by"),
                _names(gates, watched, accounts.height).alias("watched-by"),
                functools.reduce(operator.or_, second, _said(accounts)).alias("second-factor-required"),
                functools.reduce(operator.or_, resistant, nobody).alias("phishing-resistant-required"),
                words_that_hold(accepted, accounts.height).alias("accepted-factors"),
            ]
        ),
        pl.DataFrame(
            {
                "asks-accounts": [naming.number(truth) for truth in asks],
                "leaves-out-accounts": [naming.number(truth) for truth in lets_by],
                "names-nobody": [naming.empty(gate) for gate in gates],
            },
            schema=dict(zip(ON_GATES, (pl.Int64, pl.Int64, _NAMES), strict=True)),
        ),
    )


def _said(accounts: pl.DataFrame) -> pl.Series:
    """Who is asked as the system says itself; where it says nothing, the gates decide."""
    if _SAID in accounts.columns:
        return accounts[_SAID].fill_null(False)
    return pl.repeat(False, accounts.height, dtype=pl.Boolean, eager=True)


def _in_state(truth: pl.Series, gate: Gate, state: str) -> pl.Series:
    """Whether the gate reaches an account while it is in this state."""
    return _both(truth, None if gate.state is None else gate.state == state)


def _both(truth: pl.Series, also: bool | None) -> pl.Series:
    """Whether both hold: a truth on each account, and one that is the same for all (None: unknown)."""
    return truth & pl.Series([also], dtype=pl.Boolean).new_from_index(0, len(truth))


def _names(gates: Sequence[Gate], truths: Sequence[pl.Series], accounts: int) -> pl.Series:
    """The names of the gates that are true of each account; null if it cannot be told of one of them."""
    named = [(gate.name, truth) for gate, truth in zip(gates, truths, strict=True)]
    return words_that_hold(named, accounts, doubt=True)


class _Naming:
    """Finds the accounts that words name: by their own name, by a group of theirs, by their kind."""

    def __init__(self, accounts: pl.DataFrame, words: set[str], named: Named | None = None) -> None:
        self.height = accounts.height
        self.name = accounts["name"]
        self.kind = self._column(accounts, "kind", pl.String())
        self.groups = self._column(accounts, "groups", _NAMES)
        self.counting = self._column(accounts, "enabled", pl.Boolean()).fill_null(True)
        sought = pl.Series("group", sorted(words), dtype=pl.String)
        held = self.groups.alias("group").to_frame().with_row_index("place").lazy().explode("group")
        places = held.join(sought.to_frame().lazy(), on="group").group_by("group").agg("place").collect()
        self.members = dict(zip(places["group"], places["place"], strict=True))
        self.mine = frozenset(sought.filter(sought.is_in(self.name.implode())))
        self.of_all = named or self.here()

    def here(self) -> Named:
        """What the words name among these accounts."""
        return Named(self.mine, frozenset(self.members), bool(self.height and self.groups.null_count()))

    def _column(self, accounts: pl.DataFrame, name: str, dtype: pl.DataType) -> pl.Series:
        if name in accounts.columns:
            return accounts[name].cast(dtype)
        return pl.Series(name, [None], dtype=dtype).new_from_index(0, accounts.height)

    def named(self, words: tuple[str, ...] | None) -> pl.Series:
        """Whether each account is among those that the words name."""
        if words is None or EVERYONE in words:
            everyone = None if words is None else True
            return pl.Series([everyone], dtype=pl.Boolean).new_from_index(0, self.height)
        named = self.name.is_in(pl.Series(words, dtype=pl.String).implode())
        for word in words:
            if word in self.members:
                named = named.scatter(self.members[word], True)
        # A word that is no kind may be a group: of whom the groups are not known, it cannot be told.
        if set(words) - _KINDS - self.of_all.accounts:
            named = named | _both(self.groups.is_null(), None)
        kinds = sorted(_KINDS & set(words))
        return named | self.kind.is_in(pl.Series(kinds, dtype=pl.String).implode()) if kinds else named

    def number(self, truth: pl.Series) -> int | None:
        """How many accounts that are not switched off it is true of; None if it cannot be told of one."""
        counted = truth & self.counting
        return None if counted.null_count() else int(counted.sum())

    def empty(self, gate: Gate) -> list[str] | None:
        """The words of a gate that name nothing there is."""
        if gate.covers is None or gate.leaves_out is None or self.of_all.untold:
            return None
        known = {EVERYONE, *_KINDS, *self.of_all.groups, *self.of_all.accounts}
        return [word for word in dict.fromkeys(gate.words) if word not in known]
