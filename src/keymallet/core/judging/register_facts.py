"""The register as facts: its entries as rows that rules judge, and what it says of accounts."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping
from dataclasses import replace
from datetime import datetime
from fnmatch import fnmatchcase

import polars as pl

from keymallet.core.base.columns import only_where
from keymallet.core.evaluating.context import columns_used
from keymallet.core.facts.declaration import ACCOUNT, EXEMPTION, GATE, SIGN_IN
from keymallet.core.facts.evidence import ACCOUNT_ROW, INSTANT, ORIGIN, Evidence, empty_frame
from keymallet.core.judging.exemptions import Covers, covers_rule, matching
from keymallet.core.language.typed import Typed
from keymallet.core.linking.filler_reasons import is_filler
from keymallet.core.rulebook.model import Rulebook
from keymallet.core.rulebook.register import Exemption, Register

OF_ACCOUNTS = ("exempted-by", "left-out-unregistered", "drilled", "use-explained", "watched")
"""What the register says of accounts."""
NEEDED = ("name", "mail", "person", "source")
"""The facts of accounts by which it is told whom an entry covers, and who approved it."""

RESTS_ON = {
    (ACCOUNT.name, "left-out-unregistered"): (ACCOUNT.name, "left-out-by"),
    (ACCOUNT.name, "use-explained"): (ACCOUNT.name, "last-sign-in"),
    (SIGN_IN.name, "explained"): (SIGN_IN.name, "at"),
    (EXEMPTION.name, "names-no-gate"): (GATE.name, "gate"),
}
"""The facts that others are worked out from, once they are asked for."""

EVERYWHERE = {
    ACCOUNT.name: frozenset(OF_ACCOUNTS),
    SIGN_IN.name: frozenset(["explained"]),
    EXEMPTION.name: frozenset(EXEMPTION.names),
}


def facts_for(
    asked: Iterable[tuple[str, Typed]], also: Mapping[str, Collection[str]], *, with_register: bool
) -> dict[str, set[str]]:
    """The facts, by table, that expressions rest on, and what they take besides."""
    used = columns_used(asked)
    for table, facts in also.items():
        used.setdefault(table, set()).update(facts)
    if with_register:
        used.setdefault(ACCOUNT.name, set()).update(NEEDED)
        for (table, fact), (other, ground) in RESTS_ON.items():
            if fact in used.get(table, ()):
                used.setdefault(other, set()).add(ground)
    return used


def registered(
    evidence: Evidence, register: Register, rulebook: Rulebook, at: datetime
) -> tuple[Evidence, Covers]:
    """The evidence with the register in it: a row for each entry, and columns for the accounts.

    How many breaches an entry excuses is entered once the rules of the book are judged.
    """
    register = register.as_of(at)
    tables = dict(evidence.tables)
    accounts = tables[ACCOUNT.name]
    covers = Covers(register, accounts["account"])
    # An entry may name a rule that the book no longer has; that is a fact about the entry.
    rules = [demand.id for demand in rulebook.demands]
    tables[EXEMPTION.name] = _entries(register, covers, accounts, rules, tables.get(GATE.name))
    told = _on_accounts(register, covers, accounts, at)
    if "last-sign-in" in accounts.columns:
        told.append(_explained(register, covers, accounts, None, "last-sign-in").alias("use-explained"))
    if "left-out-by" in accounts.columns:
        told.append(_unregistered(register, covers, accounts, at))
    tables[ACCOUNT.name] = accounts.with_columns(told)
    if SIGN_IN.name in tables and "at" in tables[SIGN_IN.name].columns:
        events = tables[SIGN_IN.name]
        explained = _explained(register, covers, events, ACCOUNT_ROW, "at").alias("explained")
        tables[SIGN_IN.name] = events.with_columns(explained)
    return replace(evidence, tables=tables, everywhere=EVERYWHERE), covers


def _entries(
    register: Register,
    covers: Covers,
    accounts: pl.DataFrame,
    rules: list[str],
    in_force: pl.DataFrame | None,
) -> pl.DataFrame:
    gates = None if in_force is None else in_force["gate"].drop_nulls().unique().to_list()
    rows = [
        {
            "exemption": entry.id,
            "kind": entry.kind,
            "accounts": list(entry.accounts),
            "rules": list(entry.rules),
            "gates": list(entry.gates),
            "reason": entry.reason or None,
            "asked-by": entry.asked_by or None,
            "approved-by": entry.approved_by or None,
            "from": entry.start,
            "until": entry.end,
            "reviewed": entry.reviewed,
            "review-every": entry.review_every,
            "drilled": entry.drilled,
            "watch": list(entry.watch),
            "safeguards": entry.safeguards or None,
            "matched": entry.matched,
            "covers": len(covers.members[place]),
            "excuses": 0,
            "names-nobody": [pattern for pattern in entry.accounts if not _matches(covers, place, pattern)],
            "names-no-rule": [pattern for pattern in entry.rules if not _any_rule(entry, pattern, rules)],
            "names-no-gate": _no_gates(entry, gates),
            "approves-itself": approves_itself(entry, accounts, covers.members[place]),
            ORIGIN: "register",
        }
        for place, entry in enumerate(register.exemptions)
    ]
    frame = pl.DataFrame(rows, schema=empty_frame(EXEMPTION).drop("hollow-reason").schema)
    return frame.with_columns(is_filler(frame["reason"]).alias("hollow-reason"))


def _matches(covers: Covers, place: int, pattern: str) -> bool:
    """Whether one pattern of an entry matches anybody; asked of those whom the entry covers alone."""
    names = covers.accounts.gather(covers.members[place])
    return bool(matching(names, (pattern,)).any())


def _no_gates(entry: Exemption, gates: list[str] | None) -> list[str] | None:
    """The patterns that match no sign-in requirement; None where none was looked for."""
    if gates is None:
        return None if entry.gates else []
    return [pattern for pattern in entry.gates if not any(fnmatchcase(gate, pattern) for gate in gates)]


def _any_rule(entry: Exemption, pattern: str, rules: list[str]) -> bool:
    alone = replace(entry, rules=(pattern,))
    return any(covers_rule(alone, rule) for rule in rules)


def approves_itself(entry: Exemption, accounts: pl.DataFrame, members: pl.Series) -> bool:
    """Whether whoever approved it asked for it, or is among those it covers.

    The approver may be written as source/name, login name, mail address or number of the person.
    """
    approver = entry.approved_by.casefold()
    if not approver:
        return False
    if approver == entry.asked_by.casefold():
        return True
    known = [name for name in ("account", "name", "mail", "person") if name in accounts.columns]
    covered = accounts.select(known)[members]
    return any(bool((covered[name].str.to_lowercase() == approver).any()) for name in known)


def _explained(
    register: Register, covers: Covers, frame: pl.DataFrame, account: str | None, instant: str
) -> pl.Series:
    """Whether an instant of each row falls within a recorded use or drill of its account; null without one.

    `account` is the column of the rows' accounts; None where the rows are the accounts themselves.
    """
    known = frame[instant].is_not_null()
    explained = pl.repeat(False, frame.height, dtype=pl.Boolean, eager=True)
    for entry, members in zip(register.exemptions, covers.members, strict=True):
        spans = [*entry.used, *entry.drills]
        if not spans:
            continue
        rows = members if account is None else frame[account].is_in(members.implode()).arg_true()
        at = frame[instant].gather(rows)
        within = pl.repeat(False, len(rows), dtype=pl.Boolean, eager=True)
        for span in spans:
            within |= ((at >= span.start) & (at < span.end)).fill_null(False)
        explained = explained.scatter(rows.filter(within), True)
    return only_where(known, explained)


def _unregistered(register: Register, covers: Covers, accounts: pl.DataFrame, at: datetime) -> pl.Series:
    """Of each account the requirements that leave it out, and that no entry in force names for it."""
    left_out = accounts.select("left-out-by").with_row_index("row")
    pairs = left_out.filter(pl.col("left-out-by").list.len() > 0).explode("left-out-by")
    names = pairs["left-out-by"].unique().to_list()
    excused = [pl.DataFrame(schema={"row": pl.UInt32, "left-out-by": pl.String})]
    for entry, members in zip(register.exemptions, covers.members, strict=True):
        mine = [name for name in names if any(fnmatchcase(name, pattern) for pattern in entry.gates)]
        if mine and entry.holds(at):
            rows = pl.DataFrame({"row": members.cast(pl.UInt32)})
            excused.append(rows.join(pl.DataFrame({"left-out-by": mine}), how="cross"))
    open_ones = pairs.join(pl.concat(excused), on=["row", "left-out-by"], how="anti", maintain_order="left")
    lists = open_ones.group_by("row", maintain_order=True).agg(pl.col("left-out-by").alias("open"))
    joined = left_out.join(lists, on="row", how="left", maintain_order="left")
    nothing = pl.lit([], dtype=pl.List(pl.String))
    told = pl.when(pl.col("left-out-by").is_not_null()).then(pl.coalesce("open", nothing))
    return joined.select(told.alias("left-out-unregistered")).to_series()


def _on_accounts(register: Register, covers: Covers, accounts: pl.DataFrame, at: datetime) -> list[pl.Series]:
    height = accounts.height
    held = list(zip(register.exemptions, covers.members, strict=True))
    in_force = [(entry, rows) for entry, rows in held if entry.holds(at)]
    named = [
        pl.DataFrame({"row": rows}).with_columns(pl.lit(entry.id).alias("entry")) for entry, rows in in_force
    ]
    everybody = pl.DataFrame({"row": pl.int_range(height, dtype=pl.UInt32, eager=True)})
    by = pl.concat([pl.DataFrame(schema={"row": pl.UInt32, "entry": pl.String}), *named])
    lists = by.group_by("row", maintain_order=True).agg("entry")
    entries_of_row = everybody.join(lists, on="row", how="left", maintain_order="left")["entry"]
    nobody = pl.Series([[]], dtype=pl.List(pl.String)).new_from_index(0, height)
    names = (
        pl.DataFrame({"told": entries_of_row, "none": nobody}).select(pl.coalesce("told", "none")).to_series()
    )
    watched = pl.repeat(False, height, dtype=pl.Boolean, eager=True)
    for entry, rows in in_force:
        if entry.watch:
            watched = watched.scatter(rows, True)
    return [
        names.alias("exempted-by"),
        _newest([(entry.drilled, rows) for entry, rows in held], height).alias("drilled"),
        watched.alias("watched"),
    ]


def _newest(instants: list[tuple[datetime | None, pl.Series]], height: int) -> pl.Series:
    """For each row the newest of the instants told of it, or null."""
    newest = pl.Series([None], dtype=INSTANT).new_from_index(0, height)
    for instant, rows in sorted(
        ((known, rows) for known, rows in instants if known), key=lambda pair: pair[0]
    ):
        newest = newest.scatter(rows, instant)
    return newest
