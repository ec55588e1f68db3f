"""The ways into every account, a row each: what is shown together on it, over what, and with which key.

Proofs that a system takes instead of each other are several ways; proofs that it asks for together are one.
Whether a way is open is worked out when it is judged, from the row and the facts of its account.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property

import polars as pl

from keymallet.core.facts.declaration import ACCOUNT, FACTOR, KEY, WAY_IN, words_of
from keymallet.core.facts.evidence import (
    ACCOUNT_ROW,
    NOTHING_KNOWN,
    ORIGIN,
    UNREAD,
    data_type,
    notes_unread,
    with_unread,
)
from keymallet.core.facts.model import Table
from keymallet.core.linking.assurance import HELD, IN_HARDWARE, SOME_SECOND, assurance_level
from keymallet.core.linking.federated_ways import UNTOLD_END, through_others
from keymallet.core.linking.linked import LinkedReadings, LinkingRules, of_sources

OF_ITSELF = ("passkey", "hardware-key", "smartcard")
"""Factors that are a way in without a password; the same that no false site can relay."""
SSH = ("ssh-key", "ssh-certificate")
_PROGRAMS = ("api-key", "app-password", "session")
"""Keys by which programs come in, or a sign-in goes on: nobody shows them at a sign-in."""

_SHOWN = ("first", "second", "third")
"""What is shown on a way, one proof after the other."""
_DECIDING = {"bound": False, "pin": False, "empty": False}
"""What else the level of a way rests on: see `assurance_level`."""
_KINDS = pl.Enum(words_of(WAY_IN, "takes"))
_OF_ACCOUNT = (
    "source has-password password-empty remote-password remote-key remote-together second-factor-required"
    " accepted-factors second-factor-registered"
).split()
_OF_KEY = "key kind starts expires state algorithm digest scope".split()
_OF_FACTOR = "kind amr state exportable".split()
_MADE = [column.name for column in WAY_IN.columns if not column.definition]


def make_ways_in(linked: LinkedReadings, rules: LinkingRules) -> LinkedReadings:
    """Enter the ways into all accounts as a table of their own."""
    seen = _Seen(linked)
    rows = pl.concat(list(seen.ways()), how="diagonal")
    rows = pl.concat([rows, *through_others(linked, rows)], how="diagonal")
    frame = _finished(rows, linked.accounts)
    told = dict.fromkeys(_MADE, "its password, keys and factors")
    return linked.with_frame(WAY_IN, frame).supplying(linked.suppliers(ACCOUNT), WAY_IN, told)


@dataclass(frozen=True)
class _Seen:
    """The tables that ways in are made of."""

    linked: LinkedReadings

    def ways(self) -> Iterator[pl.DataFrame]:
        """All ways in, a frame for each sort; columns of which a sort has nothing are left out."""
        yield from map(_bare, (*self.by_password(), *self.by_key(), self.by_factor(), *self.untold()))

    @cached_property
    def accounts(self) -> pl.DataFrame:
        """What ways rest on of each account."""
        return _typed(self.linked.accounts, _OF_ACCOUNT, ACCOUNT).with_row_index(ACCOUNT_ROW)

    @cached_property
    def keys(self) -> pl.DataFrame:
        """Each key that is known, with what it proves, beside the facts of its account."""
        told = self._known(KEY, _OF_KEY)
        ends_told = of_sources(self.linked.suppliers(KEY, "expires"), ORIGIN) & ~notes_unread(told, "expires")
        in_hardware = (pl.col("kind").is_in(SSH) & pl.col("algorithm").str.ends_with("-sk")).fill_null(False)
        as_factor = (
            pl.when(in_hardware)
            .then(pl.lit("hardware-key"))
            .when(pl.col("kind").is_in([*SSH, "certificate"]))
            .then(pl.lit("software-key"))
        )
        verified = pl.col("scope").str.contains("verify-required", literal=True).fill_null(False)
        described = told.with_columns(
            (pl.col("expires").is_null() & ~ends_told).alias(UNTOLD_END),
            first=as_factor.otherwise("kind"),
            bound=in_hardware,
            pin=in_hardware & verified,
        )
        return described.join(self.accounts, on=ACCOUNT_ROW, how="inner", maintain_order="left")

    @cached_property
    def factors(self) -> pl.DataFrame:
        """Each factor that is known."""
        usual = pl.col("kind").is_in(sorted(IN_HARDWARE))
        bound = pl.coalesce(~pl.col("exportable"), usual).fill_null(False)
        return self._known(FACTOR, _OF_FACTOR).with_columns(bound=bound)

    def by_password(self) -> Iterator[pl.DataFrame]:
        """By password; with a second factor where one is asked for, and the account has one."""
        empty = pl.col("password-empty").fill_null(False)
        mine = self.accounts.filter((pl.col("has-password") | empty).fill_null(True))
        tells = of_sources(self.linked.suppliers(ACCOUNT, "remote-password"))
        # What a system takes over the network it tells whole: where it names no more, it asks for no more.
        required = pl.col("second-factor-required")
        whole = tells & ~self._may_have_more(FACTOR)
        asked = pl.when(whole).then(required.fill_null(False)).otherwise(required)
        mine = mine.with_columns(
            pl.lit(True).alias("by-password"),
            pl.lit("active").alias("state"),
            asked.alias("asked"),
            empty=empty,
            tells=tells,
        )
        for some in self._with_second(mine):
            taken = pl.when("tells").then("remote-password").otherwise(True)
            yield some.filter("tells").with_columns(over=pl.lit("console"), taken=pl.lit(True))
            yield some.with_columns(over=pl.lit("network"), taken=taken)

    def _with_second(self, mine: pl.DataFrame) -> Iterator[pl.DataFrame]:
        """Ways by password: one for each second factor of those asked for one, one for everybody else."""
        works = (pl.col("state") == "active").fill_null(True)
        held = self.factors.filter(pl.col("kind").is_in(sorted(HELD)) & works)
        second = held.select(ACCOUNT_ROW, "state", "bound", second="kind").unique(maintain_order=True)
        unsure = self._may_have_more(FACTOR)
        asked = mine.filter(pl.col("asked") & ~unsure).drop("state")
        both = asked.join(second, on=ACCOUNT_ROW, how="inner", maintain_order="left")
        both = both.filter(pl.col("accepted-factors").list.contains(pl.col("second")).fill_null(True))
        yield both.with_columns(first=pl.lit("password"))
        # Who is asked for what they do not have may enrol it then and there: the password is enough.
        others = mine.filter(~pl.col(ACCOUNT_ROW).is_in(both[ACCOUNT_ROW].implode()))
        registered = pl.col("second-factor-registered")
        by_word = pl.col("asked") & unsure & registered.is_not_null()
        told = pl.col("asked").is_not_null() & (~(pl.col("asked") & unsure) | by_word)
        yield others.with_columns(
            first=pl.when(told).then(pl.lit("password")),
            second=pl.when(by_word & registered).then(pl.lit(SOME_SECOND)),
        )

    def by_key(self) -> Iterator[pl.DataFrame]:
        """By a key alone, and by what is asked for one after the other beginning with a key."""
        refused = (pl.col("kind").is_in(SSH) & ~pl.col("remote-key")).fill_null(False)
        over = (
            pl.when(pl.col("kind").is_in(_PROGRAMS))
            .then(pl.lit("service"))
            .when(pl.col("kind").is_not_null())
            .then(pl.lit("network"))
        )
        yield self.keys.with_columns(pl.lit(False).alias("by-password"), over=over, taken=~refused)
        of_ssh = self.keys.filter(pl.col("kind").is_in(SSH))
        shown = of_ssh.with_columns(
            over=pl.lit("network"), taken=pl.lit(True), empty=pl.col("password-empty").fill_null(False)
        )
        with_password = {"by-password": pl.lit(True)}
        yield _asking(shown, "key-and-password").with_columns(second=pl.lit("password"), **with_password)
        two = _two_keys(shown)
        yield _asking(two, "two-keys").with_columns(pl.lit(False).alias("by-password"))
        yield _asking(two, "two-keys-and-password").with_columns(third=pl.lit("password"), **with_password)

    def by_factor(self) -> pl.DataFrame:
        """By a factor that is a way of its own; a key for SSH that lives in hardware is told by the key."""
        with_key = self.keys.filter("bound")[ACCOUNT_ROW].implode()
        of_ssh = pl.col(ACCOUNT_ROW).is_in(with_key) & (pl.col("amr") == "hwk").fill_null(False)
        own = self.factors.filter(pl.col("kind").is_in(OF_ITSELF).fill_null(True) & ~of_ssh)
        return own.with_columns(
            pl.lit(False).alias("by-password"),
            pl.when(pl.col("kind").is_not_null()).then(True).alias("taken"),
            first="kind",
            over=pl.lit("network"),
            pin=pl.lit(True),
        )

    def untold(self) -> Iterator[pl.DataFrame]:
        """A row of which nothing is known for each account that may have keys or factors nobody told of."""
        for table in (KEY, FACTOR):
            nothing = pl.lit([NOTHING_KNOWN, table.name], dtype=pl.List(pl.String)).alias(UNREAD)
            rows = self.accounts.filter(self._may_have_more(table)).select(ACCOUNT_ROW, nothing)
            # A factor that is a way of its own proves two things at once, whichever it is.
            yield (
                rows if table is KEY else rows.with_columns(pl.lit("network").alias("over"), least=pl.lit(2))
            )

    def _may_have_more(self, table: Table) -> pl.Expr:
        """Whether an account may have more rows of a table than are told."""
        frame = self.linked.frame(table)
        blind = pl.Series([], dtype=pl.UInt32)
        if frame is not None and UNREAD in frame.columns:
            blind = frame.filter(notes_unread(frame, NOTHING_KNOWN))[ACCOUNT_ROW].drop_nulls()
        told = of_sources(self.linked.suppliers(table))
        return ~told | pl.col(ACCOUNT_ROW).is_in(blind.implode())

    def _known(self, table: Table, names: Sequence[str]) -> pl.DataFrame:
        """The rows of accounts, but for those of which nothing is known; words as texts."""
        frame = self.linked.frame(table)
        if frame is None:
            frame = pl.DataFrame(schema={ACCOUNT_ROW: pl.UInt32, ORIGIN: pl.String})
        known = frame.filter(pl.col(ACCOUNT_ROW).is_not_null() & ~notes_unread(frame, NOTHING_KNOWN))
        kept = [name for name in (ACCOUNT_ROW, ORIGIN, UNREAD) if name in known.columns]
        return pl.concat([known.select(kept), _typed(known, names, table)], how="horizontal")


def _asking(shown: pl.DataFrame, word: str) -> pl.DataFrame:
    """Those whose system asks for these proofs together."""
    return shown.filter(pl.col("remote-together").list.contains(pl.lit(word)).fill_null(False))


def _two_keys(shown: pl.DataFrame) -> pl.DataFrame:
    """For each account the two different keys that work together for the longest, as one way."""
    # A line that signs certificates is no key by itself: what it signed is told by the certificates.
    signs = pl.col("scope").str.contains("signs certificates", literal=True).fill_null(False)
    works = (pl.col("state") == "active").fill_null(True)
    unending = pl.col("expires").is_null()
    ranked = (
        shown.filter(~signs)
        .sort(pl.col(ACCOUNT_ROW), ~works, ~unending, -pl.col("expires").cast(pl.Int64), maintain_order=True)
        .unique([ACCOUNT_ROW, "digest"], keep="first", maintain_order=True)
    )
    place = pl.int_range(pl.len()).over(ACCOUNT_ROW)
    beside = "key state starts expires bound".split()
    other = ranked.filter(place == 1).select(
        ACCOUNT_ROW, UNTOLD_END, second="first", **{f"other {name}": name for name in beside}
    )
    both = ranked.filter(place == 0).join(
        other, on=ACCOUNT_ROW, how="inner", suffix=" of the other", maintain_order="left"
    )
    first_works = pl.col("state") == "active"
    return both.with_columns(
        pl.format("{} and {}", "key", "other key").alias("key"),
        pl.when(first_works).then("other state").otherwise("state").alias("state"),
        pl.max_horizontal("starts", "other starts").alias("starts"),
        pl.min_horizontal("expires", "other expires").alias("expires"),
        pl.col("bound") & pl.col("other bound"),
        pl.col(UNTOLD_END) | pl.col(f"{UNTOLD_END} of the other"),
    )


_KEPT = (
    *(ACCOUNT_ROW, "key", "over", *_SHOWN, "by-password", "taken", "state", "starts", "expires", *_DECIDING),
    *(UNTOLD_END, UNREAD, "least"),
)


def _bare(rows: pl.DataFrame) -> pl.DataFrame:
    """The rows with what makes a way in alone."""
    if "first" in rows.columns:
        rows = rows.drop(UNREAD, strict=False)
    return rows.select(name for name in _KEPT if name in rows.columns)


def _finished(rows: pl.DataFrame, accounts: pl.DataFrame) -> pl.DataFrame:
    """The rows as the table declares them, with what is taken as a list, and the level that it reaches."""
    absent = {
        name: pl.lit(None, dtype=pl.String)
        for name in (*_SHOWN, "key", "proven-by")
        if name not in rows.columns
    }
    marks = [name for name in (*_DECIDING, UNTOLD_END) if name in rows.columns]
    rows = rows.with_columns(pl.col(name).fill_null(False) for name in marks).with_columns(**absent)
    rows = rows.with_columns(
        pl.lit(value).alias(name) for name, value in _DECIDING.items() if name not in rows.columns
    )
    rows = rows.with_columns(_levels(rows.select(*_SHOWN, *_DECIDING)))
    if "least" in rows.columns:
        rows = rows.with_columns(pl.coalesce("assurance", pl.col("least").cast(pl.Int64)).alias("assurance"))
    frame = rows.with_columns(
        accounts["source"].gather(rows[ACCOUNT_ROW]).alias(ORIGIN),
        pl.lit(None, dtype=pl.String).alias("account"),
    )
    typed = _typed(frame, _MADE, WAY_IN, as_declared=True)
    kept = [name for name in (UNREAD,) if name in frame.columns]
    typed = typed.hstack(frame.select(ACCOUNT_ROW, ORIGIN, *kept))
    untold = {"takes": typed["takes"].is_null(), "assurance": typed["assurance"].is_null()}
    if UNTOLD_END in frame.columns:
        untold["expires"] = frame[UNTOLD_END]
    return with_unread(typed, {name: where for name, where in untold.items() if where.any()})


def _levels(shown: pl.DataFrame) -> list[pl.Series]:
    """What is taken on each way, as a list, and the level that it reaches.

    Few sorts of ways make up millions: each is worked out once, and found again by a number.
    """
    none = len(_KINDS.categories)
    number: pl.Expr = pl.lit(0, dtype=pl.UInt64)
    for name in _SHOWN:
        place = pl.col(name).cast(_KINDS).to_physical().cast(pl.UInt64).fill_null(none)
        number = number * (none + 1) + place
    for name in _DECIDING:
        number = number * 2 + pl.col(name).cast(pl.UInt64)
    numbered = shown.with_columns(number=number)
    sorts = numbered.unique("number", keep="any")
    worked_out = [_sort_of(row) for row in sorts.iter_rows(named=True)]
    places = pl.int_range(sorts.height, dtype=pl.UInt32, eager=True)
    row_place = numbered["number"].replace_strict(sorts["number"], places, return_dtype=pl.UInt32)
    takes = pl.Series("takes", [takes for takes, _ in worked_out], dtype=pl.List(pl.String))
    levels = pl.Series("assurance", [level for _, level in worked_out], dtype=pl.Int64)
    return [takes.gather(row_place), levels.gather(row_place)]


def _sort_of(row: dict[str, object]) -> tuple[list[str] | None, int | None]:
    """What is taken on ways of a sort, and the level they reach; None where it is not known what."""
    if row["first"] is None:
        return None, None
    takes = [str(row[name]) for name in _SHOWN if row[name] is not None]
    is_bound, asks_pin, is_empty = (bool(row[name]) for name in _DECIDING)
    return takes, assurance_level(takes, is_bound=is_bound, asks_pin=asks_pin, is_empty=is_empty)


def _typed(
    frame: pl.DataFrame, names: Sequence[str], table: Table, *, as_declared: bool = False
) -> pl.DataFrame:
    """These columns, empty where they are not there; unless `as_declared`, words of closed sets as texts."""
    columns = []
    for name in names:
        column = table.column(name)
        assert column is not None, f"{table.name} has no {name}"
        dtype = data_type(column)
        if (isinstance(dtype, pl.Enum) and not as_declared) or name == "source":
            dtype = pl.String()
        there = pl.col(name) if name in frame.columns else pl.lit(None)
        columns.append(there.cast(dtype).alias(name))
    # Not by select: of columns that are all missing, it would make a single row.
    return frame.with_columns(columns).select(names)
