"""Whether whoever answers for an account is still there, by the roster: its owner, and its manager."""

from __future__ import annotations

import polars as pl

from keymallet.core.facts.declaration import ACCOUNT, PERSON
from keymallet.core.facts.evidence import INSTANT, data_type, notes_unread, with_unread
from keymallet.core.linking.linked import LinkedReadings, LinkingRules
from keymallet.core.linking.person_matching import Roster

ANSWERING = ("owner", "manager")
"""The facts of an account that name who answers for it."""


def answering_named(linked: LinkedReadings, rules: LinkingRules, _: None) -> pl.DataFrame | None:
    """All whom accounts name as answering for them, folded: `called`; None where a roster cannot tell."""
    roster = Roster.of(linked)
    if roster is None or not roster.whole:
        return None
    facts = [fact for fact in ANSWERING if fact in linked.accounts.columns]
    if not facts:
        return None
    called = [linked.accounts.select(_folded(fact).alias("called")) for fact in facts]
    return pl.concat(called).drop_nulls().unique()


def answering_found(linked: LinkedReadings, rules: LinkingRules, named: pl.DataFrame) -> pl.DataFrame:
    """The people of the roster that are called so, and where they stand: `called` and their columns."""
    people = linked.tables[PERSON.name]
    known = _people_called(named, people, linked.accounts)
    return known.join(_where_they_stand(people), on="person", how="inner")


def mark_answering(linked: LinkedReadings, rules: LinkingRules, found: pl.DataFrame | None) -> LinkedReadings:
    """Enter where the people stand that accounts name as their owner and their manager, and when they leave.

    They may be named by number, mail, name, or by the login of an account of theirs. Whoever is nobody on the
    roster, or could be several, has neither: a team may answer for an account as well. A roster that is not
    whole tells nothing.
    """
    if found is None:
        return linked
    # Who could be several people is none of them.
    alone = found.unique("called", keep="none").drop("person")
    for fact in ANSWERING:
        if fact in linked.accounts.columns:
            linked = _marked(linked, alone, fact)
    return linked


def _marked(linked: LinkedReadings, found: pl.DataFrame, fact: str) -> LinkedReadings:
    status, leaves = f"{fact}-status", f"{fact}-leaves"
    marked = (
        linked.accounts.drop(status, leaves, strict=False)
        .with_columns(_folded(fact).alias("called"))
        .join(
            found.rename({"status": status, "leaves": leaves}), on="called", how="left", maintain_order="left"
        )
        .drop("called")
    )
    unread = marked.select(notes_unread(marked, fact).alias(fact)).to_series()
    if unread.any():
        marked = with_unread(marked, {status: unread, leaves: unread})
    how = f"the roster, by its {fact}"
    return linked.with_frame(ACCOUNT, marked).supplying(
        linked.suppliers(ACCOUNT, fact), ACCOUNT, {status: how, leaves: how}
    )


def _folded(column: str) -> pl.Expr:
    return pl.col(column).str.strip_chars().str.to_lowercase()


def _where_they_stand(people: pl.DataFrame) -> pl.DataFrame:
    status = pl.lit(None) if "status" not in people.columns else pl.col("status")
    leaves = pl.lit(None) if "leaves" not in people.columns else pl.col("leaves")
    words = PERSON.column("status")
    assert words is not None
    return people.select("person", status=status.cast(data_type(words)), leaves=leaves.cast(INSTANT))


def _people_called(called: pl.DataFrame, people: pl.DataFrame, accounts: pl.DataFrame) -> pl.DataFrame:
    """The people of the roster that are called each of these names."""
    named = [
        frame.select(called=_folded(name), person="person")
        for frame, names in ((people, ("person", "mail", "name")), (accounts, ("name", "mail", "account")))
        for name in names
        if {name, "person"} <= set(frame.columns)
    ]
    known = pl.concat(named).drop_nulls().join(called, on="called", how="semi")
    return known.join(people.select("person"), on="person", how="semi").unique()
