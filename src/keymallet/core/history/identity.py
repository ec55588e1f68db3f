"""What a finding is known by from one run to the next, so that a renamed account or rule keeps its history.

A finding is of a rule (by its oldest id), of an account (by the lasting id that its source gives to it
alone, else by its name), and of a row of it: a key, a grant, an elevation by its own id. What is in force in
a source, a person of the roster, an entry of the register, and a number are known alike, under their source
or group.
"""

from __future__ import annotations

import hashlib
from collections.abc import Iterable

import polars as pl

from keymallet.core.base.parallel import in_parallel
from keymallet.core.explaining.findings import Alike, with_verdict
from keymallet.core.facts.declaration import ACCOUNT, EXEMPTION, TABLES
from keymallet.core.facts.evidence import ACCOUNT_ROW, source_column
from keymallet.core.facts.model import Table
from keymallet.core.history.columns import ACCOUNT_KEY, FINDING, KEYS, ROW, ROW_KEY, RULE_KEY
from keymallet.core.judging.judge import Judgement
from keymallet.core.rulebook.model import Demand, Rule, Rulebook, Tally

EVERYBODY = "everybody"
_BETWEEN = "\x1f"
_DIGEST_BYTES = 10

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
    return accounts.select(pl.col("source").cast(pl.String), "name", "stable-id")


def _own_id() -> pl.Expr:
    """The lasting id of each account, if no other account of its source has the same."""
    return pl.when(pl.len().over("source", "stable-id") == 1).then("stable-id")


def account_keys(accounts: pl.DataFrame) -> pl.Series:
    """What each account is known by, if no run knows it otherwise."""
    by_id = pl.concat_str("source", pl.lit("#"), _own_id())
    keys = _account_columns(accounts).select(by_id.alias(ACCOUNT_KEY)).to_series()
    without = keys.is_null().arg_true()
    if not len(without):
        return keys
    by_name = pl.concat_str("source", pl.lit("/"), "name")
    return keys.scatter(without, _account_columns(accounts[without]).select(by_name).to_series())


def keys_of(judgement: Judgement, table: Table, accounts: pl.Series) -> pl.DataFrame:
    """ACCOUNT_KEY and ROW_KEY of every row of a table, in its order; `accounts` are the keys of accounts.

    Of rows that are known by the same, the second and later ones get a number, by their order.
    """
    frame = judgement.context.frames[table.name]
    owners = accounts if table is ACCOUNT else _owner_keys(table, frame, accounts)
    rows = pl.repeat("", len(owners), eager=True) if table is ACCOUNT else _row_keys(table, frame)
    keys = pl.DataFrame({ACCOUNT_KEY: owners, ROW_KEY: rows})
    several = keys.is_duplicated().arg_true()
    if not len(several):
        return keys
    place = pl.int_range(pl.len()).over(ACCOUNT_KEY, ROW_KEY)
    later = keys[several].with_columns(several.alias("at"), place.alias("place")).filter(pl.col("place") > 0)
    told = later.select("at", pl.format("{}" + _BETWEEN + "{}", ROW_KEY, pl.col("place") + 1).alias("told"))
    return keys.with_columns(keys[ROW_KEY].scatter(told["at"], told["told"]))


def _owner_keys(table: Table, frame: pl.DataFrame, accounts: pl.Series) -> pl.Series:
    if table.of_account:
        owned = accounts.gather(frame[ACCOUNT_ROW])
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


def _as_text(frame: pl.DataFrame, name: str) -> pl.Expr:
    if isinstance(frame[name].dtype, pl.List):
        return pl.col(name).list.join("+")
    return pl.col(name).cast(pl.String)


class Identities:
    """The keys of the findings of one judgement, each table's worked out once."""

    def __init__(
        self, judgement: Judgement, known_as: pl.DataFrame | None = None, keys: pl.Series | None = None
    ) -> None:
        self.judgement = judgement
        self.known_as = no_aliases() if known_as is None else known_as
        self._plain_keys = keys
        self.rule_keys = rule_keys(judgement.rulebook)
        self._tables: dict[str, pl.DataFrame] = {}
        self._entries: dict[str, pl.DataFrame] = {}
        self._accounts: pl.Series | None = None

    def alongside(self, judgement: Judgement) -> Identities:
        """Those of another judging of the same evidence: only entries of the register may differ."""
        other = Identities(judgement, self.known_as)
        # What is worked out later for one of them is there for the other, too.
        other._tables, other._accounts = self._tables, self._accounts
        return other

    def of_table(self, name: str) -> pl.DataFrame:
        """ACCOUNT_KEY and ROW_KEY of every row of a table."""
        known = self._entries if name == EXEMPTION.name else self._tables
        if name not in known:
            known[name] = keys_of(self.judgement, TABLES[name], self._account_keys())
        return known[name]

    def prepare(self, demands: Iterable[Demand]) -> None:
        """Work out the keys of all tables that these rules are judged on, side by side."""
        self._account_keys()
        tables = {demand.table for demand in demands if isinstance(demand, Rule)}
        in_parallel(self.of_table, sorted(tables - {EXEMPTION.name}))

    def _account_keys(self) -> pl.Series:
        if self._accounts is None:
            keys = self._plain_keys
            if keys is None:
                keys = account_keys(self.judgement.context.frames[ACCOUNT.name])
            keys = keys.alias("new")
            if self.known_as.height:
                known = keys.to_frame().join(self.known_as, on="new", how="left", maintain_order="left")
                keys = known.select(pl.coalesce("known", "new")).to_series()
            self._accounts = keys
        return self._accounts

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
            keys = self.of_table(found.demand.table)[rows].with_columns(rows.alias(ROW))
        return keys.select(pl.lit(self.rule_keys[found.demand.id]).alias(RULE_KEY), ACCOUNT_KEY, ROW_KEY, ROW)


def _none(name: str) -> pl.Expr:
    return pl.lit(None, dtype=pl.UInt32).alias(name)


def finding_ids(keys: pl.DataFrame) -> pl.Series:
    """The id of each finding: 20 digits (80 bits) of the BLAKE2b of its keys, the same on every machine.

    Raises ValueError if two of them come out alike: among a million that is once in 10^12.
    """
    told = keys.select(pl.concat_str(KEYS, separator="\x1e")).to_series()
    digests = [hashlib.blake2b(text.encode(), digest_size=_DIGEST_BYTES).digest() for text in told]
    ids = pl.Series(FINDING, digests, dtype=pl.Binary).bin.encode("hex")
    if ids.n_unique() < len(ids):
        raise ValueError("two findings of one run are known by the same keys")
    return ids
