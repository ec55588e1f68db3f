"""Factors: who can prove a sign-in with what, who is made to, and who falls between the gates."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import polars as pl

from keymallet.core.facts.declaration import ACCOUNT, FACTOR, GATE
from keymallet.core.facts.evidence import account_names
from keymallet.core.facts.model import Kind
from keymallet.core.judging.judge import Judgement
from keymallet.core.rulebook.model import Rulebook
from keymallet.core.topics.questions import Questions, QuestionsByName
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

NONE, WEAK, UNPROVEN, SECOND, RESISTANT = "none", "weak only", "unproven", "second factor", "resistant"
STATES = (
    State(NONE, "a password or a key alone, or no second factor on record", Tone.GRAVE),
    State(WEAK, "only text message, voice call, mail, recovery codes or a biometric", Tone.WORRY),
    State(UNPROVEN, "not reported by any source", Tone.OPEN),
    State(SECOND, "a second factor that a fake site could relay, or of unknown kind", Tone.FAIR),
    State(RESISTANT, "a phishing-resistant factor: a fake site cannot relay it", Tone.FINE),
)
CONSOLE = "console"
ASKED, WATCHED, LEFT_OUT, BETWEEN = "asked", "on trial", "left out", "covered by none"
POPULATIONS = ("emergency", "owner", "administrator", "shared", "service", "system", "guest", "person")

_WEAK = "[sms, voice, email, recovery-codes, biometric]"
_RELAYED = "[otp, push]"
_SECOND = "[otp, push, sms, voice, email, hardware-key, passkey, smartcard]"
_THERE = "federated and proven-with includes any of"
_FROM_AFAR = "open and over in [network, federation]"
_OF_GATES = ("gate", "source", "state", "asks-for", "asks-accounts", "leaves-out-accounts", "names-nobody")


def asked(book: Rulebook) -> QuestionsByName:
    """What is asked of accounts, factors and gates."""
    questions = Questions(book)
    weak = f"some factor (state = active and kind in {_WEAK}) or {_THERE} {_WEAK}"
    questions.columns(ACCOUNT, "account", "display", "unit", "source", "kind", "privileged")
    questions.columns(ACCOUNT, "covered-by", "left-out-by", "watched-by", "second-factor-required")
    questions.conditions(
        ACCOUNT,
        in_scope="usable and for-people",
        owner="system-owner" if "system-owner" in book.terms else "stable-id = '0'",
        resistant="phishing-resistant-registered",
        registered="second-factor-registered",
        second=f"some factor (state = active and kind in {_RELAYED}) or {_THERE} {_RELAYED}"
        f" or second-factor-registered and not ({weak})",
        weak=weak,
        below_1=f"some way-in ({_FROM_AFAR} and assurance < 1)",
        below_2=f"some way-in ({_FROM_AFAR} and assurance < 2)",
        below_3=f"some way-in ({_FROM_AFAR} and assurance < 3)",
        from_afar=f"some way-in ({_FROM_AFAR})",
    )
    # A key that is taken instead of the password is no second factor.
    questions.values(ACCOUNT, seconds=f"count factor (state = active and kind in {_SECOND})")
    questions.columns(FACTOR, "kind", prefix="factor ")
    questions.conditions(
        FACTOR,
        never_used="state = active and kind != password and registered is known and last-used is unknown",
        pending="state = pending",
        shared="state = active and length(shared-with) > 0",
    )
    return questions.columns(GATE, *_OF_GATES, prefix="gate ").asked


def report(judgement: Judgement, answers: Mapping[str, pl.Series]) -> TopicReport:
    """Coverage of everybody who can sign in, and what asks them for it."""
    state = first_that_holds(
        [(RESISTANT, answers["resistant"]), (SECOND, answers["second"]), (WEAK, answers["weak"])],
        NONE,
        UNPROVEN,
    )
    state = _by_yes_and_no(judgement, answers, state)
    level = _level(answers)
    everybody = pl.DataFrame(
        [
            *(answers[name] for name in ("account", "display", "unit", "source", "privileged")),
            answers["kind"].cast(pl.String),
            _populations(answers).alias("population"),
            state,
            _enforcement(answers).alias("gate"),
            level.alias("level"),
            answers["seconds"].alias("second factors"),
            answers["covered-by"].alias("covered by"),
            answers["left-out-by"].alias("left out by"),
            answers["watched-by"].alias("watched by"),
        ]
    )
    rows = everybody.filter(answers["in_scope"].fill_null(True))
    rows = rows.with_columns(pl.col("gate").is_in([LEFT_OUT, WATCHED, BETWEEN]).alias("not asked"))
    order = pl.col("population").replace_strict(
        {population: place for place, population in enumerate(POPULATIONS)}
    )
    rows = in_order(rows, STATES, order, "account")
    return TopicReport(
        topic="factors",
        at=judgement.at,
        noun="account",
        states=STATES,
        rows=rows,
        kinds={
            "covered by": Kind.WORDS,
            "left out by": Kind.WORDS,
            "watched by": Kind.WORDS,
            "second factors": Kind.COUNT,
        },
        measures=("not asked",),
        sections=tuple(_sections(judgement, answers, rows)),
        numbers={"gates are told of": bool(judgement.evidence.suppliers(GATE.name))},
    )


def _by_yes_and_no(judgement: Judgement, answers: Mapping[str, pl.Series], state: pl.Series) -> pl.Series:
    """The states; where a source tells no factors, by its plain yes or no to a second one."""
    told = judgement.evidence.suppliers(FACTOR.name)
    frame = pl.DataFrame([state, answers["registered"], answers["source"].cast(pl.String)])
    plain = ~pl.col("source").is_in(told) & pl.col("registered").is_not_null() & (pl.col(STATE) == UNPROVEN)
    by_word = pl.when("registered").then(pl.lit(SECOND)).otherwise(pl.lit(NONE))
    return frame.select(pl.when(plain).then(by_word).otherwise(STATE).alias(STATE)).to_series()


def _level(answers: Mapping[str, pl.Series]) -> pl.Series:
    """The level of the weakest way in that is open from afar; of a console alone, none is told."""
    closed = ~answers["from_afar"]
    below = [("AAL0", "below_1"), ("AAL1", "below_2"), ("AAL2", "below_3")]
    return first_that_holds(
        [(CONSOLE, closed), *((level, answers[name]) for level, name in below)], "AAL3", UNPROVEN
    )


def _populations(answers: Mapping[str, pl.Series]) -> pl.Series:
    """Owners and administrators go before what kind of account they are."""
    frame = pl.DataFrame([answers["owner"], answers["privileged"], answers["kind"].cast(pl.String)])
    kind = pl.col("kind").fill_null("person")
    return frame.select(
        pl.when(kind == "emergency").then(pl.lit("emergency"))
        .when("owner").then(pl.lit("owner"))
        .when(pl.col("privileged") & (kind == "person")).then(pl.lit("administrator"))
        .otherwise(kind)
    ).to_series()  # fmt: skip


def _enforcement(answers: Mapping[str, pl.Series]) -> pl.Series:
    """What makes an account prove more than a password: a gate in force, or why none does."""
    frame = pl.DataFrame([answers[name] for name in ("second-factor-required", "left-out-by", "watched-by")])
    enforced = pl.col("second-factor-required")
    return frame.select(
        pl.when(enforced).then(pl.lit(ASKED))
        .when(enforced.is_null()).then(pl.lit(UNPROVEN))
        .when(pl.col("left-out-by").list.len() > 0).then(pl.lit(LEFT_OUT))
        .when(pl.col("watched-by").list.len() > 0).then(pl.lit(WATCHED))
        .otherwise(pl.lit(BETWEEN))
    ).to_series()  # fmt: skip


def _sections(judgement: Judgement, answers: Mapping[str, pl.Series], rows: pl.DataFrame) -> list[Section]:
    sections = []
    gates = _gates(answers)
    if gates.height:
        kinds = {
            "asks for": Kind.WORDS,
            "asks": Kind.COUNT,
            "leaves out": Kind.COUNT,
            "names nobody": Kind.WORDS,
        }
        sections.append(Section("gates", gates, kinds))
    outside = (
        rows.filter(pl.col("gate").is_in([LEFT_OUT, WATCHED, BETWEEN])) if gates.height else rows.clear()
    )
    if outside.height:
        grouped = (
            outside.group_by("gate", "population", by=pl.concat_list("left out by", "watched by"))
            .agg(pl.len().cast(pl.Int64).alias("accounts"), pl.col("account").alias("which"))
            .sort("gate", -pl.col("accounts"), "population", pl.col("by").list.join(" "))
        )
        kinds = {"by": Kind.WORDS, "accounts": Kind.COUNT, "which": Kind.WORDS}
        sections.append(Section("not-asked", grouped, kinds))
    wanting = _wanting(judgement, answers)
    if wanting.height:
        kinds = {"factors": Kind.COUNT, "kinds": Kind.WORDS, "on": Kind.WORDS}
        sections.append(Section("wanting", wanting, kinds))
    return sections


def _gates(answers: Mapping[str, pl.Series]) -> pl.DataFrame:
    """Each gate, with whom it reaches; those that reach fewer than they seem to first."""
    frame = pl.DataFrame([answers[f"gate {name}"].alias(name) for name in _OF_GATES])
    return frame.select(
        "gate",
        "source",
        pl.col("state").cast(pl.String),
        pl.col("asks-for").alias("asks for"),
        pl.col("asks-accounts").alias("asks"),
        pl.col("leaves-out-accounts").alias("leaves out"),
        pl.col("names-nobody").alias("names nobody"),
    ).sort(
        (pl.col("asks") != 0) | (pl.col("state") != "in-force"),
        pl.col("state").replace_strict({"on-trial": 0, "in-force": 1}, default=2),
        "gate",
        "source",
    )


def _wanting(judgement: Judgement, answers: Mapping[str, pl.Series]) -> pl.DataFrame:
    frames = judgement.context.frames
    lines = []
    for word, name in (("one device, several people", "shared"), ("registered, never used", "never_used"),
                       ("waits to be confirmed", "pending")):  # fmt: skip
        where = answers[name].fill_null(False).arg_true()
        if len(where):
            mine = frames[FACTOR.name][where]
            names = account_names(frames[ACCOUNT.name], mine).unique(maintain_order=True)
            kinds = answers["factor kind"].cast(pl.String).gather(where).unique().sort()
            lines.append((word, len(where), kinds.drop_nulls().to_list(), names.to_list()))
    lists = pl.List(pl.String)
    schema: dict[str, Any] = {"what": pl.String, "factors": pl.Int64, "kinds": lists, "on": lists}
    return pl.DataFrame(lines, schema=schema, orient="row")


FACTORS_TOPIC = Topic(
    "factors",
    "Factors: who has which factors, and who has to use them",
    ("population", "unit", "kind", "source", "gate", "level"),
    asked,
    report,
    drawn_by="unit",
)
