"""Elevation: privilege that stands, privilege that may be asked for, and what was opened and how."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime, timedelta
from typing import Any

import polars as pl

from keymallet.core.base.intervals import START, STOP, clipped, total, unbroken
from keymallet.core.base.word_lists import words_that_hold
from keymallet.core.facts.declaration import ACCOUNT, ELEVATION, GRANT, SIGN_IN
from keymallet.core.facts.evidence import ACCOUNT_ROW, INSTANT, account_names
from keymallet.core.facts.model import Kind
from keymallet.core.judging.judge import Judgement
from keymallet.core.linking.elevation_spans import BACK_TO_BACK
from keymallet.core.rulebook.model import Rulebook
from keymallet.core.topics.questions import Questions, QuestionsByName
from keymallet.core.topics.report import STATE, Section, State, Tone, Topic, TopicReport, in_order

STANDING, OPEN, UNPROVEN, MAY_ASK, OVER = "standing", "elevated now", "unproven", "on request", "ended"
STATES = (
    State(STANDING, "held permanently", Tone.WORRY),
    State(OPEN, "on request, elevated at this moment", Tone.FAIR),
    State(UNPROVEN, "how it is held is not reported by any source", Tone.OPEN),
    State(MAY_ASK, "on request, not elevated now", Tone.FINE),
    State(OVER, "the right has ended, or not begun yet", Tone.QUIET),
)
WEEKS = 4
"""The hours a week are those of so many weeks up to the instant judged at."""
_LOOKED_BACK = timedelta(weeks=WEEKS)
_ASKED_FOR = {
    "open_now": "outcome = opened and age(starts) >= 0s and until(ends) > 0s and closed is unknown",
    "own_approval": "approves-itself",
    "no_approval": "approved-by is unknown",
    "hollow": "hollow-reason",
    "copied": "same-reason > 0 and not hollow-reason",
    "no_proof": "not proof includes any of [otp, push, hardware-key, passkey, smartcard, biometric]",
    "no_right": "not entitled",
    "overrun": "until(ends) <= 0s and (closed is unknown or closed > ends)",
}
"""What may be amiss with what somebody had to ask for: a standing right is used without any of it."""
_DRAWN = timedelta(weeks=12)


def asked(book: Rulebook) -> QuestionsByName:
    """What is asked of grants, of openings, and of sign-ins by those who only may open."""
    questions = Questions(book).columns(ACCOUNT, "account", "unit", "kind", "source", "person")
    questions.conditions(
        ACCOUNT,
        opens_only="some grant (privileged and mode = on-request)"
        " and no grant (privileged and mode = standing)",
    )
    questions.columns(GRANT, "role", "via", "ends", "last-opened", prefix="grant ")
    questions.conditions(
        GRANT,
        privileged="privileged",
        standing="mode = standing",
        in_force="holds",
        enabled="account.enabled",
    ).limit(GRANT, "right-unused", "90d", under="unused_for")
    questions.columns(ELEVATION, "starts", "ends", "closed", *_TOLD, prefix="opening ")
    questions.conditions(
        ELEVATION,
        opened="outcome = opened",
        **{name: f"not by-own-right and ({condition})" for name, condition in _ASKED_FOR.items()},
    )
    questions.limit(ELEVATION, "opened-for", "8h", under="opened_for")
    questions.limit(ELEVATION, "opened-stretch", "12h", under="opened_stretch")
    questions.columns(SIGN_IN, "at", prefix="sign-in ")
    return questions.conditions(
        SIGN_IN,
        outside="outcome = success and not in-opening",
    ).asked


def report(judgement: Judgement, answers: Mapping[str, pl.Series]) -> TopicReport:
    """Every privileged right, and what was opened."""
    accounts = judgement.context.frames[ACCOUNT.name]
    openings = _openings(judgement, answers)
    rows = _rights(judgement, answers, openings)
    counted = openings.filter("opened")
    return TopicReport(
        topic="elevation",
        at=judgement.at,
        noun="right",
        states=STATES,
        rows=rows,
        kinds={"until": Kind.INSTANT, "ends": Kind.INSTANT, "last opened": Kind.INSTANT},
        measures=("direct", "unused"),
        sections=tuple(_sections(judgement, answers, accounts, openings)),
        numbers=_numbers(judgement, counted),
        draw=lambda: {
            "openings": counted.filter(
                (pl.col(STOP) > judgement.at - _DRAWN) & (pl.col(START) < pl.col(STOP))
            )
        },
    )


def _openings(judgement: Judgement, answers: Mapping[str, pl.Series]) -> pl.DataFrame:
    """Every elevation with its ACCOUNT_ROW, account, `who` (the person, else the account), START and STOP."""
    frames = judgement.context.frames
    elevations, accounts = frames[ELEVATION.name], frames[ACCOUNT.name]
    rows = elevations[ACCOUNT_ROW]
    names = account_names(accounts, elevations)
    columns = [answers[f"opening {name}"].alias(name) for name in _TOLD]
    return pl.DataFrame(
        [
            rows,
            names.alias("account"),
            answers["person"].gather(rows).alias("person"),
            answers["opening starts"].alias(START),
            answers["opening closed"].alias("closed"),
            answers["opening ends"].alias("ends"),
            *columns,
            *(answers[name].fill_null(False).alias(name) for name in _TRUTHS),
            *(answers[name].is_null().alias(f"{name} open") for name in _TRUTHS),
            answers["opened_for"],
            answers["opened_stretch"],
        ]
    ).with_columns(
        pl.coalesce("closed", "ends").alias(STOP),
        pl.coalesce("person", "account").alias("who"),
    )


_TOLD = (
    "elevation", "role", "reason", "lasted", "stretch", "approved-by", "asked", "proof", "outcome", "ticket",
)  # fmt: skip
AMISS = ("own_approval", "no_approval", "hollow", "copied", "no_proof", "no_right", "overrun")
"""Columns of openings: what is amiss with each."""
_TRUTHS = ("opened", "open_now", *AMISS)


def _rights(judgement: Judgement, answers: Mapping[str, pl.Series], openings: pl.DataFrame) -> pl.DataFrame:
    """Each privileged right of an account that is enabled, with its state."""
    frames = judgement.context.frames
    grants, accounts = frames[GRANT.name], frames[ACCOUNT.name]
    rows = grants[ACCOUNT_ROW]
    frame = pl.DataFrame(
        [
            rows,
            account_names(accounts, grants).alias("account"),
            *(answers[f"grant {name}"].alias(name) for name in ("role", "via", "ends", "last-opened")),
            *(answers[name] for name in ("privileged", "standing", "in_force", "enabled", "unused_for")),
            *(answers[name].gather(rows).cast(pl.String).alias(name) for name in ("unit", "kind", "source")),
        ]
    ).filter(pl.col("privileged").fill_null(True) & pl.col("enabled").fill_null(True))
    now = openings.filter("open_now").group_by(ACCOUNT_ROW, "role").agg(pl.col("ends").max().alias("until"))
    held = frame.join(now, on=[ACCOUNT_ROW, "role"], how="left", maintain_order="left")
    state = (
        pl.when(~pl.col("in_force")).then(pl.lit(OVER))
        .when("standing").then(pl.lit(STANDING))
        .when(pl.col("standing").is_null()).then(pl.lit(UNPROVEN))
        .when(pl.col("until").is_not_null()).then(pl.lit(OPEN))
        .otherwise(pl.lit(MAY_ASK))
    )  # fmt: skip
    never = pl.col("last-opened").is_null() | (
        pl.lit(judgement.at, dtype=INSTANT) - pl.col("last-opened") > pl.col("unused_for")
    )
    named = held.with_columns(state.alias(STATE)).with_columns(
        (pl.col("via") == "direct").fill_null(False).alias("direct"),
        (pl.col(STATE).is_in([MAY_ASK, OPEN]) & never).alias("unused"),
        pl.col("via").alias("how"),
    )
    kept = named.rename({"last-opened": "last opened"}).drop(
        ACCOUNT_ROW, "privileged", "standing", "in_force", "enabled", "unused_for"
    )
    return in_order(kept, STATES, ~pl.col("direct"), "account", "role")


def _numbers(judgement: Judgement, opened: pl.DataFrame) -> dict[str, Any]:
    """Whether openings are told of at all; how many there were lately, of how many people, for how long."""
    lately = _lately(opened, judgement.at)
    unions = unbroken(lately, "who")
    lasting = (unions[STOP] - unions[START]).sum()
    return {
        "openings are told of": bool(judgement.evidence.suppliers(ELEVATION.name)),
        "openings lately": lately.height,
        "people lately": lately["who"].n_unique(),
        "open lately": lasting if isinstance(lasting, timedelta) else timedelta(),
    }


def _lately(opened: pl.DataFrame, at: datetime) -> pl.DataFrame:
    first, last = (pl.lit(edge, dtype=INSTANT) for edge in (at - _LOOKED_BACK, at))
    return clipped(opened, first, last)


def hours_a_week(opened: pl.DataFrame, at: datetime) -> pl.DataFrame:
    """For each person: openings, hours a week, hours of the last seven days, the longest unbroken stretch.

    The week is the mean of the weeks looked back at; overlaps count once. `opened` has `who`, START and
    STOP; the longest first.
    """
    lately = _lately(opened, at)
    week, now = (pl.lit(edge, dtype=INSTANT) for edge in (at - timedelta(days=7), at))
    unions = unbroken(lately, "who")
    summed = total(unions, "who").rename({"sum": "in all"})
    last_week = total(clipped(unions, week, now), "who").rename({"sum": "last 7 days"})
    longest = (
        unbroken(lately, "who", BACK_TO_BACK)
        .group_by("who", maintain_order=True)
        .agg((pl.col(STOP) - pl.col(START)).max().alias("longest stretch"))
    )
    named = lately.group_by("who", maintain_order=True).agg(
        pl.col("account").unique(maintain_order=True), pl.len().cast(pl.Int64).alias("openings")
    )
    joined = named.join(summed, on="who").join(last_week, on="who", how="left").join(longest, on="who")
    return joined.with_columns(
        (pl.col("in all") / WEEKS).alias("a week"),
        pl.col("last 7 days").fill_null(pl.duration(microseconds=0)),
    ).sort("longest stretch", "a week", "who", descending=[True, True, False])


def _sections(
    judgement: Judgement, answers: Mapping[str, pl.Series], accounts: pl.DataFrame, openings: pl.DataFrame
) -> list[Section]:
    sections = []
    opened = openings.filter("opened")
    people = hours_a_week(opened, judgement.at)
    if people.height:
        shown = people.select(
            pl.col("account").alias("accounts"), "openings", "a week", "last 7 days", "longest stretch"
        )
        spans = dict.fromkeys(("a week", "last 7 days", "longest stretch"), Kind.SPAN)
        kinds = {**spans, "openings": Kind.COUNT, "accounts": Kind.WORDS}
        sections.append(Section("people", shown, kinds))
    visits = faults_of(openings)
    if visits.height:
        ordered = visits.sort(
            pl.col("problems").list.len() == 0, pl.col(START), descending=[False, True], maintain_order=True
        )
        kinds = {
            **dict.fromkeys((START, "asked", "ends", "closed"), Kind.INSTANT),
            **dict.fromkeys(("lasted", "stretch"), Kind.SPAN),
            **dict.fromkeys(("problems", "proof"), Kind.WORDS),
        }
        sections.append(Section("openings", ordered.select(_OF_OPENINGS), kinds, _SHOWN_OF_OPENINGS))
    sign_ins = judgement.context.frames[SIGN_IN.name]
    outside = (
        (answers["outside"] & answers["opens_only"].gather(sign_ins[ACCOUNT_ROW])).fill_null(False).arg_true()
    )
    if len(outside):
        mine = sign_ins[outside]
        visits = pl.DataFrame(
            {"account": account_names(accounts, mine), "at": answers["sign-in at"].gather(outside)}
        )
        counted = visits.group_by("account").agg(
            pl.len().cast(pl.Int64).alias("sign-ins"), pl.col("at").max().alias("the last")
        )
        kinds = {"sign-ins": Kind.COUNT, "the last": Kind.INSTANT}
        ordered = counted.sort("sign-ins", "account", descending=[True, False])
        sections.append(Section("outside", ordered, kinds))
    return sections


_OF_OPENINGS = (
    "account", "elevation", "role", "asked", "approved-by", START, "ends", "closed", "lasted", "stretch",
    "proof", "outcome", "problems", "reason", "ticket",
)  # fmt: skip
_SHOWN_OF_OPENINGS = ("account", "elevation", START, "lasted", "problems", "reason")


def faults_of(openings: pl.DataFrame) -> pl.DataFrame:
    """The openings with `amiss`: what is wrong with each, in words."""
    flags = {
        "approved by oneself": "own_approval",
        "approved by nobody": "no_approval",
        "no right to it": "no_right",
        "no factor shown": "no_proof",
        "closed late": "overrun",
        "no reason": "hollow",
        "copied reason": "copied",
    }
    told = openings.select(
        *((pl.col(name) & pl.col("opened")).alias(word) for word, name in flags.items()),
        ((pl.col("lasted") > pl.col("opened_for")) & pl.col("opened")).alias("open too long"),
        ((pl.col("stretch") > pl.col("opened_stretch")) & pl.col("opened")).alias("adds up to more"),
        # What is not known is neither amiss nor in order: it is said with the rest.
        *(
            (pl.col(f"{name} open") & pl.col("opened")).alias(f"not known: {word}")
            for word, name in flags.items()
            if f"{name} open" in openings.columns
        ),
    )
    words = words_that_hold([(truth.name, truth) for truth in told.get_columns()], openings.height)
    return openings.with_columns(words.alias("problems"))


ELEVATION_TOPIC = Topic(
    "elevation",
    "Elevation: permanent privilege, and privilege on request",
    ("role", "unit", "kind", "source", "how"),
    asked,
    report,
)
