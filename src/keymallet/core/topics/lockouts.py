"""Lockouts: who is locked, by what and until when, who is near it, and what failed sign-ins look like."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import timedelta

import polars as pl

from keymallet.core.base.listing import how_many
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
    State(GETS_IN, "locked, and a key or a session of it works all the same", Tone.GRAVE),
    State(LOCKED, "nobody gets in until it ends or is lifted", Tone.WORRY),
    State(NEAR, "has used up half of its failures, or more", Tone.WORRY),
    State(RUN_OUT, "the lock has ended by itself, and still stands in the data", Tone.FAIR),
    State(UNPROVEN, "no source tells", Tone.OPEN),
    State(OPEN, "not locked", Tone.FINE),
)
WHEN_LIFTED = "when lifted"
DESK, STRONGER = "the desk", "a stronger hand"
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
        noun="account",
        states=STATES,
        rows=rows,
        headline=f"{how_many(held.height, 'account')} locked, {int((rows[STATE] == NEAR).sum()):,} near it",
        told=_told(rows, held, failures, judgement),
        kinds={
            "since": Kind.INSTANT,
            "until": Kind.INSTANT,
            "failures": Kind.COUNT,
            "of": Kind.COUNT,
            "locks": Kind.COUNT,
        },
        measures=("again",),
        sections=tuple(_sections(judgement, answers, failures)),
        shown=("held", "account", "since", "lasts", "failed"),
        draw=lambda: {
            "failures": _in_buckets(failures, judgement),
            "locks": held.drop_nulls("since").select("account", "since", "cause"),
        },
    )


def _rows(judgement: Judgement, answers: Mapping[str, pl.Series]) -> pl.DataFrame:
    clock = judgement.context.clock.key
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
    until = pl.col("until").dt.convert_time_zone(clock).dt.strftime("%Y-%m-%d %H:%M")
    stronger = pl.col("privileged").fill_null(False) | (pl.col("kind") == "emergency")
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
    rows = rows.with_columns(
        pl.when(is_locked & pl.col("until").is_not_null()).then(until)
        .when(is_locked & ~pl.col("by_itself")).then(pl.lit(WHEN_LIFTED))
        .when(is_locked).then(pl.lit("not known"))
        .alias("ends"),
        pl.when(~is_locked).then(None)
        .when(pl.col("until").is_not_null()).then(pl.lit("itself"))
        .when(stronger).then(pl.lit(STRONGER)).otherwise(pl.lit(DESK))
        .alias("unlocked by"),
        (pl.col("locks") > 1).fill_null(False).alias("again"),
        pl.col("cause").replace("failed-attempts", "failures"),
        pl.when(pl.col("of").is_null()).then(pl.col("failures").cast(pl.String))
        .otherwise(pl.format("{} of {}", "failures", "of")).alias("failed"),
    ).drop("by_itself")  # fmt: skip
    lasts = (
        pl.when(pl.col("until").is_not_null())
        .then(pl.col("ends"))
        .when(pl.col("ends") == WHEN_LIFTED)
        .then(pl.format("needs {}", "unlocked by"))
        .otherwise(pl.col("ends"))
    )
    held = pl.when(is_locked & pl.col("cause").is_not_null()).then(pl.format("{} by {}", STATE, "cause"))
    rows = rows.with_columns(lasts.alias("lasts"), held.otherwise(pl.col(STATE)).alias("held"))  # fmt: skip
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


def _told(
    rows: pl.DataFrame, held: pl.DataFrame, failures: pl.DataFrame, judgement: Judgement
) -> tuple[str, ...]:
    causes = held["cause"].fill_null("cause not known").value_counts(sort=True).iter_rows()
    by = ", ".join(f"{number:,} by {cause}" if cause != "cause not known" else f"{number:,} {cause}"
                   for cause, number in causes)  # fmt: skip
    sentences = [f"{how_many(held.height, 'account')} locked{': ' + by if by else ''}."]
    lifted = int((held["ends"] == WHEN_LIFTED).sum())
    if lifted:
        strong = int((held["unlocked by"] == STRONGER).sum())
        sentences.append(
            f"{lifted:,} of them stay so until somebody acts"
            + (f", {strong:,} need a stronger hand than the service desk." if strong else ".")
        )
    again = int(rows["again"].sum())
    if again:
        sentences.append(f"{again:,} locked more than once, by the sign-ins that are kept.")
    if not judgement.evidence.suppliers(SIGN_IN.name):
        return (*sentences, "No source tells of sign-ins: what failures look like cannot be said.")
    first = failures["at"].sort().head(1).dt.strftime("%Y-%m-%d").to_list()
    span = f"since {first[0]}" if first else "on record"
    return (*sentences, f"{how_many(failures.height, 'failed sign-in')} {span}.")


def _sections(
    judgement: Judgement, answers: Mapping[str, pl.Series], failures: pl.DataFrame
) -> list[Section]:
    sections = []
    spraying = on_many(failures)
    if spraying.height:
        shown = spraying.select("origin", "accounts", "failures", *_when(judgement))
        note = "a few passwords tried on everybody"
        kinds = {"accounts": Kind.COUNT, "failures": Kind.COUNT}
        sections.append(Section("origins", "one origin, many accounts", shown, kinds, note))
    hammered = on_one(failures)
    if hammered.height:
        named = hammered.with_columns(answers["account"].gather(hammered[ACCOUNT_ROW]).alias("account"))
        shown = named.select("account", "failures", "origins", *_when(judgement))
        kinds = {"failures": Kind.COUNT, "origins": Kind.COUNT}
        sections.append(Section("attacked", "many failures, one account", shown, kinds))
    settings = _settings(answers)
    if settings.height:
        kinds = {"locks after": Kind.COUNT, "locks for": Kind.SPAN, "counts within": Kind.SPAN}
        sections.append(Section("settings", "what locks, system by system", settings, kinds))
    exposed = (answers["emergency"] & (answers["threshold"] > 0)).fill_null(False).arg_true()
    if len(exposed):
        shown = pl.DataFrame(
            [answers["account"].gather(exposed), answers["threshold"].gather(exposed).alias("after")]
        )
        note = "whoever knows the name can lock it when it is needed most"
        title = "emergency accounts that failures can lock"
        sections.append(Section("exposed", title, shown, {"after": Kind.COUNT}, note))
    return sections


def _when(judgement: Judgement) -> list[pl.Expr]:
    """From when until when, to the minute, in the estate's clock."""
    clock = judgement.context.clock.key
    return [pl.col(name).dt.convert_time_zone(clock).dt.strftime("%Y-%m-%d %H:%M") for name in ("from", "to")]


def _settings(answers: Mapping[str, pl.Series]) -> pl.DataFrame:
    names = {"source": "source", "setting": "setting", "lock-after": "locks after", "lock-for": "locks for",
             "count-within": "counts within"}  # fmt: skip
    settings = pl.DataFrame([answers[f"set {name}"].alias(said) for name, said in names.items()])
    against = {"weak after": "late, or never", "weak for": "too short", "weak within": "counts too briefly"}
    faults = [(word, answers[name]) for name, word in against.items() if name in answers]
    amiss = words_that_hold(faults, settings.height).list.join(", ").replace("", None)
    settings = settings.with_columns(pl.col("source").cast(pl.String), amiss.alias("against the rulebook"))
    return settings.sort("against the rulebook", "source", "setting", nulls_last=True)


LOCKOUTS_TOPIC = Topic(
    "lockouts",
    "Lockouts: who is locked, by what, and who is near it",
    ("source", "unit", "kind", "cause"),
    asked,
    report,
)
