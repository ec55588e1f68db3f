"""Whose each finding is: who answers for what, tried in turn."""

from __future__ import annotations

from collections.abc import Sequence

import polars as pl

from keymallet.core.base.columns import only
from keymallet.core.facts.declaration import ACCOUNT, PERSON
from keymallet.core.facts.evidence import PERSON_ROW
from keymallet.core.history.answers import MANAGER, MATCHED, OWNER, Answers
from keymallet.core.history.columns import ANSWERER, MAIL, NOBODY
from keymallet.core.history.observed import Observed
from keymallet.core.judging.judge import Judgement
from keymallet.core.language.patterns import like_to_regex
from keymallet.core.rulebook.model import Rule

FACTS_USED = {
    ACCOUNT.name: {
        "manager",
        "manager-status",
        "owner",
        "owner-status",
        "unit",
        "kind",
        "source",
        PERSON_ROW,
    },
    PERSON.name: {"person", "name", "mail", "manager", "status", "unit"},
}
"""The facts, by table, that decide whose a finding is."""


def answerers(
    observed: Observed, entries: Sequence[Answers], staff: pl.DataFrame | None = None
) -> pl.DataFrame:
    """ANSWERER and MAIL of each finding, in the order of `observed.frame`; NOBODY where no entry fits."""
    return Answering(observed.judgement, entries, staff).of(observed)


class Answering:
    """Who answers for findings of one judging; whom the facts name for each account is worked out once."""

    def __init__(
        self, judgement: Judgement, entries: Sequence[Answers], staff: pl.DataFrame | None = None
    ) -> None:
        """Hold what is asked of; `staff` is that of `sharding.staff`, where the roster lies in shards."""
        self.entries = entries
        self._topics = {demand.id: demand.topic for demand in judgement.rulebook.demands}
        frames = judgement.context.frames
        known = named_staff(staff_told(frames[PERSON.name])) if staff is None else staff
        self._addresses = _addresses(known)
        self._of_people = _managers_of_people(frames, known)
        self._of_accounts = {
            MANAGER: _managers(frames, self._of_people, known),
            OWNER: _there(frames[ACCOUNT.name], OWNER),
        }

    def of(self, observed: Observed) -> pl.DataFrame:
        """ANSWERER and MAIL of each finding, in the order of `observed.frame`."""
        topic = pl.col("rule").replace_strict(self._topics, return_dtype=pl.String).alias("topic")
        frame = observed.frame.select("rule", "account", "source", "unit", "kind")
        frame = frame.with_columns(topic, *self._named(observed))
        return _first_that_fits(frame, self.entries, self._addresses)

    def _named(self, observed: Observed) -> list[pl.Series]:
        """Who stands in the facts as manager and as owner of each finding's account, if still there."""
        found = []
        for fact, told in self._of_accounts.items():
            parts = [told.clear()]
            for each, places in observed.of_each:
                if each.rows is None or not isinstance(each.demand, Rule):
                    parts.append(told.clear(len(places)))
                elif each.demand.table == PERSON.name:
                    of_people = self._of_people
                    parts.append(of_people.gather(each.rows) if fact == MANAGER else told.clear(len(places)))
                else:
                    parts.append(told.gather(observed.judgement.accounts(each.demand, each.rows)))
            found.append(pl.concat(parts).alias(f"{fact}-told"))
        return found


def answerers_of_accounts(
    frames: dict[str, pl.DataFrame],
    entries: Sequence[Answers],
    topic: str,
    staff: pl.DataFrame | None = None,
) -> pl.DataFrame:
    """`account`, ANSWERER, and MANAGER by name, of each account, whatever rule it falls short of.

    Entries for some rules alone are left out; with a `topic`, those for other topics. `staff` is as for
    `Answering`.
    """
    accounts = frames[ACCOUNT.name]
    staff = named_staff(staff_told(frames[PERSON.name])) if staff is None else staff
    manager = _managers(frames, _managers_of_people(frames, staff), staff)
    told = accounts.select(
        "account",
        *(pl.col(name).cast(pl.String) for name in ("source", "unit", "kind")),
        pl.lit(None, dtype=pl.String).alias("rule"),
        pl.lit(topic or None, dtype=pl.String).alias("topic"),
    ).with_columns(manager.alias(f"{MANAGER}-told"), _there(accounts, OWNER).alias(f"{OWNER}-told"))
    found = _first_that_fits(told, entries, _addresses(staff)).select(ANSWERER)
    return told.select("account", pl.col(f"{MANAGER}-told").alias(MANAGER)).hstack(found)


def _first_that_fits(
    frame: pl.DataFrame, entries: Sequence[Answers], addresses: pl.DataFrame
) -> pl.DataFrame:
    """ANSWERER and MAIL; the address of somebody who is no desk is that of the roster."""
    who = pl.lit(None, dtype=pl.String)
    mail = pl.lit(None, dtype=pl.String)
    person = pl.lit(False)
    for entry in reversed(entries):
        fits = pl.lit(True)
        for name in MATCHED:
            patterns = getattr(entry, name)
            if patterns:
                regex = "|".join(f"(?:{like_to_regex(pattern)})" for pattern in patterns)
                fits &= pl.col(name.removesuffix("s")).str.contains(regex).fill_null(False)
        told = pl.lit(entry.by) if entry.is_desk else pl.col(f"{entry.by}-told")
        fits &= told.is_not_null()
        who = pl.when(fits).then(told).otherwise(who)
        mail = pl.when(fits).then(pl.lit(entry.mail or None, dtype=pl.String)).otherwise(mail)
        person = pl.when(fits).then(pl.lit(not entry.is_desk)).otherwise(person)
    answering = frame.with_columns(
        who.fill_null(NOBODY).alias(ANSWERER), mail.alias(MAIL), person.alias("person")
    )
    answering = answering.join(
        addresses, left_on=ANSWERER, right_on="told", how="left", maintain_order="left"
    )
    of_roster = pl.when("person").then(pl.col("address"))
    return answering.select(ANSWERER, pl.coalesce(MAIL, of_roster).alias(MAIL))


def _there(accounts: pl.DataFrame, fact: str) -> pl.Series:
    """What an account names, but for people who have left."""
    if fact not in accounts.columns:
        return pl.repeat(None, accounts.height, dtype=pl.String, eager=True)
    told = pl.col(fact)
    status = f"{fact}-status"
    known = only(accounts, [name for name in (fact, status) if name in accounts.columns])
    if status in known.columns:
        told = pl.when(pl.col(status).cast(pl.String).fill_null("") != "left").then(told)
    return known.select(told.cast(pl.String).alias(fact)).to_series()


def _managers_of_people(frames: dict[str, pl.DataFrame], staff: pl.DataFrame) -> pl.Series:
    """The manager of each person of the roster, by name where it has one; null once they have left."""
    return _by_name(frames[PERSON.name]["manager"], staff)


def _managers(frames: dict[str, pl.DataFrame], of_people: pl.Series, staff: pl.DataFrame) -> pl.Series:
    """The manager of each account: its person's, else the one its source gives."""
    accounts = frames[ACCOUNT.name]
    own = _by_name(_there(accounts, MANAGER), staff)
    told = pl.DataFrame({"person": of_people.gather(accounts[PERSON_ROW].cast(pl.UInt32)), "own": own})
    return told.select(pl.coalesce("person", "own")).to_series()


def staff_told(people: pl.DataFrame) -> pl.DataFrame:
    """`given` (the staff number), `name`, `gone` and `address` of each person of the roster."""
    gone = (pl.col("status").cast(pl.String) == "left").fill_null(False)
    address = pl.col("mail").cast(pl.String) if "mail" in people.columns else pl.lit(None, dtype=pl.String)
    staff = people.filter(pl.col("person").is_not_null()).unique("person", keep="first", maintain_order=True)
    return staff.select(
        pl.col("person").cast(pl.String).alias("given"),
        pl.col("name").cast(pl.String),
        gone.alias("gone"),
        address.alias("address"),
    )


def name_and_number() -> pl.Expr:
    """How somebody is told who shares a name with others."""
    return pl.format("{} ({})", "name", "given")


def named_staff(told: pl.DataFrame, shared: pl.Expr | None = None) -> pl.DataFrame:
    """The staff with `named`, what each is called by; `shared` says who shares a name with others.

    These are told by name and number: else what is theirs would be anybody's.
    """
    is_shared = pl.col("name").is_duplicated() if shared is None else shared
    named = pl.when(is_shared).then(name_and_number()).otherwise("name")
    return told.with_columns(pl.coalesce(named, "given").alias("named"))


def _addresses(staff: pl.DataFrame) -> pl.DataFrame:
    """`address` by how somebody is `told`: by name, or by number; none of who has left."""
    there = staff.filter(~pl.col("gone") & pl.col("address").is_not_null())
    told = pl.concat([there.select("address", pl.col(name).alias("told")) for name in ("named", "given")])
    return told.unique("told", keep="first", maintain_order=True)


def _by_name(numbers: pl.Series, staff: pl.DataFrame) -> pl.Series:
    """Who these are, of whom a source gives a staff number or a name; null for those who have left."""
    known = (
        numbers.cast(pl.String)
        .alias("given")
        .to_frame()
        .join(staff, on="given", how="left", maintain_order="left")
    )
    there = ~pl.col("gone").fill_null(False)
    return known.select(pl.when(there).then(pl.coalesce("named", "given")).alias("told")).to_series()
