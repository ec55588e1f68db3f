"""What a finding is known by from one run to the next, so that a renamed account or rule keeps its history.

A finding is of a rule (by its oldest id), of an account (by the lasting id that its source gives to it
alone, else by its name), and of a row of it: a key, a grant, an elevation by its own id. What is in force in
a source, a person of the roster, an entry of the register, and a number are known alike, under their source
or group.
"""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Iterable, Iterator
from copy import copy

import polars as pl

from keymallet.core.base.columns import is_repeated, only
from keymallet.core.base.parallel import in_parallel
from keymallet.core.explaining.findings import Alike, with_verdict
from keymallet.core.facts.declaration import ACCOUNT, EXEMPTION, TABLES
from keymallet.core.facts.evidence import ACCOUNT_ROW, SHARED_ID, source_column
from keymallet.core.facts.model import Table
from keymallet.core.history.columns import ACCOUNT_KEY, FINDING, KEYS, ROW, ROW_KEY, RULE_KEY
from keymallet.core.judging.judge import Judgement
from keymallet.core.rulebook.model import Demand, Rule, Rulebook, Tally

EVERYBODY = "everybody"
_BETWEEN = "\x1f"
_DIGEST_BYTES = 10
_AT_ONCE = 100_000
"""Of so many rows keys are made at once, where those of all rows are needed."""

ALIASES = {"new": pl.String, "known": pl.String}
"""Account keys as they would be made now, and as the logbook knows the same accounts: see `aliases`."""


def facts_known_by(book: Rulebook) -> dict[str, set[str]]:
    """The facts, by table, that what the book judges is known by."""
    needed = {ACCOUNT.name: {"stable-id"}}
    for table in (TABLES[demand.table] for demand in book.demands):
        by = table.known_by
        needed.setdefault(table.name, set()).update(
            (*by.always, *by.otherwise, *([by.own] if by.own else []))
        )
    return needed


def rule_keys(book: Rulebook) -> dict[str, str]:
    """By the id of each rule what its findings are known by: the oldest id it had.

    In books side by side another rule may have that id now; then it is the other's.
    """
    taken = {demand.id for demand in book.demands}
    keys: dict[str, str] = {}
    for demand in book.demands:
        oldest = next(iter(demand.formerly), demand.id)
        keys[demand.id] = demand.id if oldest in taken else oldest
        taken.add(oldest)
    return keys


def no_aliases() -> pl.DataFrame:
    """Where nothing is known by another key than the one it would get now."""
    return pl.DataFrame(schema=ALIASES)


def aliases(known: pl.DataFrame, accounts: pl.DataFrame, keys: pl.Series) -> pl.DataFrame:
    """The accounts that the logbook knows by another key than they would get now, which is that of `keys`.

    `known` are accounts of the run before: `source`, `name`, `stable-id` and ACCOUNT_KEY. A source may begin
    or cease to give lasting ids: then the account of the same name is the same one. Where both have an id of
    their own, it decides.
    """
    known = known.select("source", "name", "stable-id", pl.col(ACCOUNT_KEY).alias("known"))
    # What goes by the same key as before is known already.
    is_missing = pl.col("name").is_not_null() & ~pl.col("known").is_in(keys.implode())
    if not known.select(is_missing.any()).item():
        return no_aliases()
    known = known.filter(pl.col("name").is_not_null()).unique(maintain_order=True)
    known = known.with_columns(_own_id().alias("id")).filter(is_missing)
    now = _account_columns(accounts).with_columns(_own_id().alias("id"), keys.alias("new"))
    by_id = known.drop_nulls("id").drop("name").join(now, on=["source", "id"], how="inner")
    by_name = known.join(now, on=["source", "name"], how="inner", suffix="-now")
    by_name = by_name.filter(pl.col("id").is_null() | pl.col("id-now").is_null())
    found = pl.concat([frame.select("new", "known") for frame in (by_id, by_name)])
    return found.filter(pl.col("new") != pl.col("known")).unique("new", keep="first", maintain_order=True)


def aliases_before(now: pl.DataFrame, keys: pl.Series, before: pl.DataFrame) -> pl.DataFrame:
    """The accounts of the evidence `before` that are known by another key there than they have `now`.

    Those of which one evidence alone has a lasting id: a source that was not read gives nothing but names.
    `keys` are what the accounts of `now` are known by.
    """
    sides = [_account_columns(each).with_columns(_own_id().alias("id")) for each in (before, now)]
    if not any(side["id"].null_count() for side in sides):
        return no_aliases()
    sides[0] = sides[0].with_columns(account_keys(before).alias("new"))
    sides[1] = sides[1].with_columns(keys.alias("known"))
    same = sides[0].join(sides[1], on=["source", "name"], how="inner", suffix="-now")
    same = same.filter(pl.col("id").is_null() != pl.col("id-now").is_null())
    return same.select("new", "known").unique("new", keep="first", maintain_order=True)


def _account_columns(accounts: pl.DataFrame) -> pl.DataFrame:
    return only(accounts, ("source", "name", "stable-id")).with_columns(pl.col("source").cast(pl.String))


def _own_id() -> pl.Expr:
    """The lasting id of each account, if no other account of its source has the same."""
    return pl.when(pl.len().over("source", "stable-id") == 1).then("stable-id")


def account_keys(accounts: pl.DataFrame) -> pl.Series:
    """What each account is known by, if no run knows it otherwise."""
    return AccountKeys(accounts).of_all()


class AccountKeys:
    """What accounts are known by, if no run knows them otherwise: made for the rows that are asked about."""

    def __init__(self, accounts: pl.DataFrame) -> None:
        self._columns = only(accounts, ("source", "name", "stable-id"))
        if SHARED_ID in accounts.columns:
            marked = accounts[SHARED_ID]
        else:
            marked = is_repeated(self._columns.select("source", "stable-id"))
        self._columns = self._columns.with_columns(marked.alias("shared"))

    def of_all(self) -> pl.Series:
        """The keys of all accounts."""
        return self.of(pl.int_range(self._columns.height, dtype=pl.UInt32, eager=True))

    def without_id(self) -> pl.Series:
        """The rows of accounts that go by their name, for want of a lasting id that is theirs alone."""
        named = self._columns.select(pl.col("shared") | pl.col("stable-id").is_null()).to_series()
        return named.arg_true().cast(pl.UInt32)

    def of(self, rows: pl.Series) -> pl.Series:
        """The keys of these accounts; null where there is no row."""
        frame = self._columns[rows].with_columns(pl.col("source").cast(pl.String))
        by_id = pl.when(~pl.col("shared")).then(pl.concat_str("source", pl.lit("#"), "stable-id"))
        by_name = pl.concat_str("source", pl.lit("/"), "name")
        return frame.select(pl.coalesce(by_id, by_name).alias(ACCOUNT_KEY)).to_series()


def _owner_keys(
    table: Table, frame: pl.DataFrame, of_accounts: Callable[[pl.Series], pl.Series]
) -> pl.Series:
    if table.of_account:
        owned = of_accounts(frame[ACCOUNT_ROW])
        if not owned.null_count():
            return owned
        # What names an account that is not there goes by the name it gives.
        strays = pl.DataFrame({"known": owned, "stray": frame["account"]})
        return strays.select(pl.coalesce("known", "stray").fill_null("")).to_series()
    return frame[source_column(table)].cast(pl.String).fill_null("")


def _row_keys(table: Table, frame: pl.DataFrame) -> pl.Series:
    def joined(*names: str) -> pl.Expr:
        parts = [_as_text(frame, name).fill_null("") for name in names]
        return pl.concat_str(parts, separator=_BETWEEN) if parts else pl.lit("")

    by = table.known_by
    own = _as_text(frame, by.own) if by.own else pl.lit(None, dtype=pl.String)
    rest = pl.coalesce(pl.concat_str(pl.lit("="), own), joined(*by.otherwise))
    made = pl.concat_str(joined(*by.always), rest, separator=_BETWEEN)
    return frame.select(made.alias(ROW_KEY)).to_series()


def _columns_known_by(table: Table) -> list[str]:
    """The columns of a table that the keys of its rows are made of."""
    by = table.known_by
    owner = [ACCOUNT_ROW, "account"] if table.of_account else [source_column(table)]
    return list(dict.fromkeys([*owner, *by.always, *by.otherwise, *([by.own] if by.own else [])]))


def _as_text(frame: pl.DataFrame, name: str) -> pl.Expr:
    if isinstance(frame[name].dtype, pl.List):
        return pl.col(name).list.join("+")
    return pl.col(name).cast(pl.String)


def _parts(rows: pl.Series) -> Iterator[pl.Series]:
    return (rows.slice(start, _AT_ONCE) for start in range(0, len(rows), _AT_ONCE))


class Identities:
    """The keys of the findings of one judgement, made for those that are asked about."""

    def __init__(
        self,
        judgement: Judgement,
        known_as: pl.DataFrame | None = None,
        accounts: AccountKeys | None = None,
    ) -> None:
        self.judgement = judgement
        self.known_as = no_aliases() if known_as is None else known_as
        self.rule_keys = rule_keys(judgement.rulebook)
        self._accounts = accounts or AccountKeys(judgement.context.frames[ACCOUNT.name])
        # Keys of whole tables, and which rows of them have a number; entries of the register apart.
        self._shared: dict[tuple[str, str], pl.DataFrame] = {}
        self._own: dict[tuple[str, str], pl.DataFrame] = {}

    def alongside(self, judgement: Judgement) -> Identities:
        """Those of another judging of the same evidence: only entries of the register may differ."""
        # What is worked out later for one of them is there for the other, too.
        other = copy(self)
        other.judgement, other.rule_keys, other._own = judgement, rule_keys(judgement.rulebook), {}
        return other

    def _kept(self, name: str) -> dict[tuple[str, str], pl.DataFrame]:
        return self._own if name == EXEMPTION.name else self._shared

    def of_table(self, name: str) -> pl.DataFrame:
        """ACCOUNT_KEY and ROW_KEY of every row of a table."""
        kept = self._kept(name)
        if (name, "keys") not in kept:
            rows = pl.int_range(self.judgement.context.frames[name].height, dtype=pl.UInt32, eager=True)
            kept[name, "keys"] = self.of_rows(name, rows)
        return kept[name, "keys"]

    def of_rows(self, name: str, rows: pl.Series) -> pl.DataFrame:
        """ACCOUNT_KEY and ROW_KEY of these rows of a table.

        Of rows that are known by the same, the second and later ones get a number, by their order.
        """
        later = self._numbered(name)
        keys = self._unnumbered(name, rows)
        if not later.height:
            return keys
        numbers = (
            rows.cast(pl.UInt32).alias(ROW).to_frame().join(later, on=ROW, how="left", maintain_order="left")
        )
        told = pl.format("{}" + _BETWEEN + "{}", ROW_KEY, "number")
        return keys.hstack(numbers.select("number")).select(
            ACCOUNT_KEY, pl.when(pl.col("number").is_null()).then(ROW_KEY).otherwise(told).alias(ROW_KEY)
        )

    def prepare(self, demands: Iterable[Demand]) -> None:
        """Find out which rows are known by the same in the tables that these rules are judged on."""
        tables = {demand.table for demand in demands if isinstance(demand, Rule)}
        self._numbered(ACCOUNT.name)
        in_parallel(self._numbered, sorted(tables - {ACCOUNT.name}), worth_it=2)

    def _numbered(self, name: str) -> pl.DataFrame:
        """ROW and `number` of the rows of a table that are known by the same as one before them."""
        kept = self._kept(name)
        if (name, "numbers") not in kept:
            asked = self._perhaps_alike(name)
            # All keys together would take much memory: they are made part by part, and a number of each kept.
            hashes = [self._hashes(name, part) for part in (asked[:0], *_parts(asked))]
            alike = asked.filter(pl.concat(hashes).is_duplicated())
            keys = self._unnumbered(name, alike).with_columns(alike.alias(ROW))
            number = (pl.int_range(pl.len()) + 1).over(ACCOUNT_KEY, ROW_KEY)
            keys = keys.with_columns(number.alias("number")).filter(pl.col("number") > 1)
            kept[name, "numbers"] = keys.select(ROW, "number")
        return kept[name, "numbers"]

    def _perhaps_alike(self, name: str) -> pl.Series:
        """The rows of a table that may be known by the same as another one of them."""
        table, frame = TABLES[name], self.judgement.context.frames[name]
        if table is ACCOUNT and not self.known_as.height:
            return self._accounts.without_id()
        if table.of_account and not self._numbered(ACCOUNT.name).height:
            # No two accounts are known by the same: only rows of one can be.
            return frame[ACCOUNT_ROW].is_duplicated().arg_true().cast(pl.UInt32)
        return pl.int_range(frame.height, dtype=pl.UInt32, eager=True)

    def _hashes(self, name: str, rows: pl.Series) -> pl.Series:
        """A number of the key of each of these rows, the same where keys are the same."""
        table = TABLES[name]
        if not table.of_account or self._numbered(ACCOUNT.name).height:
            return self._unnumbered(name, rows).hash_rows()
        # The places of accounts do as well as their keys, and are there already.
        frame = only(self.judgement.context.frames[name], _columns_known_by(table))[rows]
        stray = pl.when(pl.col(ACCOUNT_ROW).is_null()).then("account")
        return frame.select(ACCOUNT_ROW, stray).with_columns(_row_keys(table, frame)).hash_rows()

    def _unnumbered(self, name: str, rows: pl.Series) -> pl.DataFrame:
        """ACCOUNT_KEY and ROW_KEY of some rows of a table, several of which may be known by the same."""
        table = TABLES[name]
        if table is ACCOUNT:
            return self._of_accounts(rows).to_frame().with_columns(pl.lit("").alias(ROW_KEY))
        frame = only(self.judgement.context.frames[name], _columns_known_by(table))[rows]
        owners = _owner_keys(table, frame, self._of_accounts).alias(ACCOUNT_KEY)
        return pl.DataFrame([owners, _row_keys(table, frame)])

    def _of_accounts(self, rows: pl.Series) -> pl.Series:
        """The keys of these accounts, as runs know them; null where there is no row."""
        keys = self._accounts.of(rows)
        if not self.known_as.height:
            return keys
        known = keys.alias("new").to_frame().join(self.known_as, on="new", how="left", maintain_order="left")
        return known.select(pl.coalesce("known", "new").alias(ACCOUNT_KEY)).to_series()

    def located(self, table: str, wanted: pl.DataFrame) -> pl.DataFrame:
        """`wanted`, by its ACCOUNT_KEY and ROW_KEY, with ROW: the row of the table that is meant, or null."""
        by = [ACCOUNT_KEY, ROW_KEY]
        asked = wanted.select(by).unique()
        rows = self.of_table(table).with_row_index(ROW).join(asked, on=by, how="semi")
        return wanted.join(rows, on=by, how="left", maintain_order="left")

    def of_findings(self, found: Alike) -> pl.DataFrame:
        """KEYS and ROW of findings of one rule."""
        if isinstance(found.demand, Tally):
            numbers = with_verdict(self.judgement, found.demand, found.verdict)
            keys = numbers.select(pl.col("group").fill_null("").alias(ACCOUNT_KEY))
            keys = keys.with_columns(pl.lit("").alias(ROW_KEY), _none(ROW))
        elif found.rows is None:
            keys = pl.DataFrame({ACCOUNT_KEY: [""], ROW_KEY: [EVERYBODY]}).with_columns(_none(ROW))
        else:
            rows = found.rows.cast(pl.UInt32)
            keys = self.of_rows(found.demand.table, rows).with_columns(rows.alias(ROW))
        return keys.select(pl.lit(self.rule_keys[found.demand.id]).alias(RULE_KEY), ACCOUNT_KEY, ROW_KEY, ROW)


def _none(name: str) -> pl.Expr:
    return pl.lit(None, dtype=pl.UInt32).alias(name)


class Distinct:
    """Sees to it that no two findings have the same id, where these come one block after the other."""

    def __init__(self) -> None:
        self._parts: list[pl.DataFrame] = []

    def add(self, ids: pl.Series) -> None:
        """Enter the ids of one block: as two numbers each, which take half the room."""
        first, rest = (pl.col(FINDING).str.slice(*part).str.to_integer(base=16) for part in ((0, 15), (15,)))
        self._parts.append(ids.to_frame().select(first=first, rest=rest.cast(pl.Int32)))

    def check(self) -> None:
        """Raises ValueError if two of all that were entered are the same."""
        if not self._parts:
            return
        parts = pl.concat(self._parts)
        first = parts["first"].sort()
        # Only where half of an id is there twice the other half can matter.
        if (first[1:] == first[:-1]).any() and parts.is_duplicated().any():
            raise ValueError("two findings of one run are known by the same keys")


def finding_ids(keys: pl.DataFrame) -> pl.Series:
    """The id of each finding: 20 digits (80 bits) of the BLAKE2b of its keys, the same on every machine.

    That two of a million come out alike happens once in 10^12: see `Distinct`.
    """
    told = keys.select(pl.concat_str(KEYS, separator="\x1e").cast(pl.Binary)).to_series().to_list()
    digests = [hashlib.blake2b(text, digest_size=_DIGEST_BYTES).hexdigest() for text in told]
    return pl.Series(FINDING, digests, dtype=pl.String)
