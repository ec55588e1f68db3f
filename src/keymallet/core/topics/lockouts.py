"""Lockouts: who is locked, by what and until when, who is near it, and what failed sign-ins look like."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import timedelta

import polars as pl

from keymallet.core.base.word_lists import words_that_hold
from keymallet.core.facts.declaration import ACCOUNT, SETTING, SIGN_IN
from keymallet.core.facts.evidence import ACCOUNT_ROW, INSTANT
from keymallet.core.facts.model import Kind
from keymallet.core.judging.judge import Judgement
from keymallet.core.linking.failures import on_many, on_one
from keymallet.core.rulebook.model import Rulebook
from keymallet.core.topics.questions import Questions, QuestionsByName, has_limit
from keymallet.core.topics.report import (
    STATE,
    Section,
    State,
    Tone,
    Topic,
    TopicReport,
    first_that_holds,
    in_order,
)

GETS_IN, LOCKED, NEAR, RUN_OUT, UNPROVEN, OPEN = (
    "gets in", "locked", "near it", "run out", "unproven", "not locked",
)  # fmt: skip
STATES = (
    State(GETS_IN, "locked, but a key or a session still works", Tone.GRAVE),
    State(LOCKED, "nobody can sign in until it ends or somebody unlocks it", Tone.WORRY),
    State(NEAR, "has used half of its allowed failures, or more", Tone.WORRY),
    State(RUN_OUT, "the lock has ended by itself, but is still in the data", Tone.FAIR),
    State(UNPROVEN, "not reported by any source", Tone.OPEN),
    State(OPEN, "not locked", Tone.FINE),
)
BY_ITSELF, WHEN_LIFTED, NOT_KNOWN = "by itself", "when lifted", "not known"
"""How a lock ends."""
DESK, ADMINISTRATOR = "service desk", "administrator"
"""Who can lift a lock that does not end by itself; some locks take more than the service desk may."""
_SHOWN_BACK = timedelta(days=14)
BUCKET = timedelta(hours=6)


def asked(book: Rulebook) -> QuestionsByName:
    """What is asked of accounts, settings and failed sign-ins."""
    questions = Questions(book).columns(
        ACCOUNT, "account", "unit", "kind", "source", "privileged", "lock-cause"
    )
    questions.columns(ACCOUNT, "locked-since", "locked-until", "failed-attempts", "locked-before")
    questions.conditions(
        ACCOUNT,
        enabled="enabled",
        locked="locked",
        by_itself="locked-until is known",
        gets_in="some key (state = active and (expires is unknown or until(expires) > 0s)"
        " and (kind = session or account.lock-stops = password and not kind in [entry-code, invitation]))",
        emergency="kind = emergency",
    ).values(ACCOUNT, threshold="setting.lock-after")
    names = ("setting", "source", "lock-after", "lock-for", "count-within")
    questions.columns(SETTING, *names, prefix="set ")
    if has_limit(book, "lock-after", Kind.COUNT, for_all=True):
        weak = "not (lock-after is known and lock-after <= limit.lock-after)"
        questions.conditions(SETTING, **{"weak after": weak})
    if has_limit(book, "lock-for", Kind.SPAN, for_all=True):
        questions.conditions(SETTING, **{"weak for": "lock-for is known and lock-for < limit.lock-for"})
    if has_limit(book, "counted-within", Kind.SPAN, for_all=True):
        narrow = "count-within is known and count-within < limit.counted-within"
        questions.conditions(SETTING, **{"weak within": narrow})
    questions.columns(SIGN_IN, "at", "origin", prefix="sign-in ")
    return questions.conditions(SIGN_IN, failed="outcome = failure").asked


def report(judgement: Judgement, answers: Mapping[str, pl.Series]) -> TopicReport:
    """Every account that is enabled, whether it is locked, and how near it is."""
    rows = _rows(judgement, answers)
    failures = _failures(judgement, answers)
    held = rows.filter(pl.col(STATE).is_in([GETS_IN, LOCKED]))
    return TopicReport(
        topic="lockouts",
        at=judgement.at,
        noun="account",
        states=STATES,
        rows=rows,
        kinds={
            "since": Kind.INSTANT,
            "until": Kind.INSTANT,
            "failures": Kind.COUNT,
            "of": Kind.COUNT,
            "locks": Kind.COUNT,
        },
        measures=("again",),
        sections=tuple(_sections(answers, failures)),
        numbers={
            "sign-ins are told of": bool(judgement.evidence.suppliers(SIGN_IN.name)),
            "failures": failures.height,
            "first failure": failures["at"].min(),
        },
        draw=lambda: {
            "failures": _in_buckets(failures, judgement),
            "locks": held.select("account", "since", "cause"),
        },
    )


def _rows(judgement: Judgement, answers: Mapping[str, pl.Series]) -> pl.DataFrame:
    # What the source itself says, before it is worked out whether the lock still holds.
    stands = judgement.context.frames[ACCOUNT.name]["locked"]
    failed, threshold = answers["failed-attempts"], answers["threshold"]
    near = pl.DataFrame({"failed": failed, "threshold": threshold}).select(
        (2 * pl.col("failed") >= pl.col("threshold")).fill_null(False)
    )
    state = first_that_holds(
        [
            (GETS_IN, (answers["locked"] & answers["gets_in"]).fill_null(False)),
            (LOCKED, answers["locked"]),
            (NEAR, near.to_series() & ~stands.fill_null(False)),
            (RUN_OUT, stands.fill_null(False)),
        ],
        OPEN,
        UNPROVEN,
    )
    is_locked = pl.col(STATE).is_in([GETS_IN, LOCKED])
    stronger = pl.col("privileged") | (pl.col("kind") == "emergency").fill_null(False)
    rows = pl.DataFrame(
        [
            *(answers[name] for name in ("account", "unit", "source", "privileged")),
            answers["kind"].cast(pl.String),
            state,
            answers["lock-cause"].cast(pl.String).alias("cause"),
            answers["locked-since"].alias("since"),
            answers["locked-until"].alias("until"),
            failed.alias("failures"),
            threshold.alias("of"),
            answers["locked-before"].alias("locks"),
            answers["by_itself"],
        ]
    ).filter(answers["enabled"].fill_null(True))
    ends = (
        pl.when(~is_locked)
        .then(None)
        .when(pl.col("until").is_not_null())
        .then(pl.lit(BY_ITSELF))
        .when(~pl.col("by_itself"))
        .then(pl.lit(WHEN_LIFTED))
        .otherwise(pl.lit(NOT_KNOWN))
    )
    unlocked_by = (
        pl.when(pl.col("ends") == BY_ITSELF)
        .then(pl.lit(BY_ITSELF))
        .when(is_locked & stronger)
        .then(pl.lit(ADMINISTRATOR))
        .when(is_locked & stronger.is_null())
        .then(pl.lit(NOT_KNOWN))
        .when(is_locked)
        .then(pl.lit(DESK))
    )
    rows = rows.with_columns(ends.alias("ends")).with_columns(
        unlocked_by.alias("unlocked by"), (pl.col("locks") > 1).fill_null(False).alias("again")
    )
    rows = rows.drop("by_itself")
    return in_order(rows, STATES, ~stronger.fill_null(False), pl.col("failures") * -1, "account")


def _failures(judgement: Judgement, answers: Mapping[str, pl.Series]) -> pl.DataFrame:
    """Every failed sign-in up to the instant judged at: ACCOUNT_ROW, `at`, `origin`."""
    rows = judgement.context.frames[SIGN_IN.name][ACCOUNT_ROW]
    events = pl.DataFrame(
        [rows, answers["sign-in at"].alias("at"), answers["sign-in origin"].alias("origin")]
    )
    return events.filter(answers["failed"].fill_null(False) & (events["at"] <= judgement.at).fill_null(False))


def _in_buckets(failures: pl.DataFrame, judgement: Judgement) -> pl.DataFrame:
    """How many failures fell into each stretch of the last two weeks: `bucket` (how many back), `number`."""
    back = pl.lit(judgement.at, dtype=INSTANT) - pl.col("at")
    recent = failures.filter(back <= _SHOWN_BACK)
    places = recent.select(bucket=back.dt.total_microseconds() // (BUCKET // timedelta(microseconds=1)))
    return places["bucket"].value_counts(name="number").sort("bucket")


def _sections(answers: Mapping[str, pl.Series], failures: pl.DataFrame) -> list[Section]:
    sections = []
    spraying = on_many(failures)
    if spraying.height:
        shown = spraying.select("origin", "accounts", "failures", "from", "to")
        kinds = {"accounts": Kind.COUNT, "failures": Kind.COUNT, **_FROM_TO}
        sections.append(Section("origins", shown, kinds))
    hammered = on_one(failures)
    if hammered.height:
        named = hammered.with_columns(answers["account"].gather(hammered[ACCOUNT_ROW]).alias("account"))
        shown = named.select("account", "failures", "origins", "from", "to")
        kinds = {"failures": Kind.COUNT, "origins": Kind.COUNT, **_FROM_TO}
        sections.append(Section("attacked", shown, kinds))
    settings = _settings(answers)
    if settings.height:
        kinds = {
            "locks after": Kind.COUNT,
            "locks for": Kind.SPAN,
            "counts within": Kind.SPAN,
            "against the rulebook": Kind.WORDS,
        }
        sections.append(Section("settings", settings, kinds))
    exposed = (answers["emergency"] & (answers["threshold"] > 0)).fill_null(False).arg_true()
    if len(exposed):
        shown = pl.DataFrame(
            [answers["account"].gather(exposed), answers["threshold"].gather(exposed).alias("after")]
        )
        sections.append(Section("exposed", shown, {"after": Kind.COUNT}))
    return sections


_FROM_TO = {"from": Kind.INSTANT, "to": Kind.INSTANT}


def _settings(answers: Mapping[str, pl.Series]) -> pl.DataFrame:
    names = {"source": "source", "setting": "setting", "lock-after": "locks after", "lock-for": "locks for",
             "count-within": "counts within"}  # fmt: skip
    settings = pl.DataFrame([answers[f"set {name}"].alias(said) for name, said in names.items()])
    against = {"weak after": "late, or never", "weak for": "too short", "weak within": "counts too briefly"}
    faults = [(word, answers[name]) for name, word in against.items() if name in answers]
    amiss = words_that_hold(faults, settings.height).alias("against the rulebook")
    settings = settings.with_columns(pl.col("source").cast(pl.String), amiss)
    in_order_last = pl.col("against the rulebook").list.len() == 0
    return settings.sort(in_order_last, "against the rulebook", "source", "setting", nulls_last=True)


LOCKOUTS_TOPIC = Topic(
    "lockouts",
    "Lockouts: who is locked, why, and who is about to be",
    ("source", "unit", "kind", "cause"),
    asked,
    report,
)
