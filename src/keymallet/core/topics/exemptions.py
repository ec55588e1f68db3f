"""Exemptions: what is left out of rules, approved by whom, until when; and what is amiss with that."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime

import polars as pl

from keymallet.core.facts.declaration import ACCOUNT, EXEMPTION
from keymallet.core.facts.evidence import INSTANT
from keymallet.core.facts.model import Kind
from keymallet.core.judging.judge import Judgement
from keymallet.core.rulebook.model import Rulebook
from keymallet.core.topics.questions import Questions, QuestionsByName
from keymallet.core.topics.report import STATE, Section, State, Tone, Topic, TopicReport, in_order

RELIED_ON, AMISS, HOLDS, NOT_YET, OVER = "ended, still relied on", "to correct", "holds", "not yet", "ended"
STATES = (
    State(RELIED_ON, "it has ended, and its accounts still break the rules", Tone.GRAVE),
    State(AMISS, "in force, but something about it is wrong", Tone.WORRY),
    State(HOLDS, "in force and in order", Tone.FINE),
    State(NOT_YET, "begins in the future", Tone.QUIET),
    State(OVER, "ended, and no longer needed", Tone.QUIET),
)
NO_END, UNREVIEWED, OWN_APPROVAL, NOT_APPROVED, NOBODY, NO_RULE, NO_GATE, UNNEEDED, BROADER, HOLLOW = (
    "no end", "review is due", "approved by whom it serves", "not approved", "covers nobody", "names no rule",
    "names no gate", "nothing needs it", "covers more than approved", "no real reason",
)  # fmt: skip
EMERGENCY = "emergency"
_MOST_EMERGENCY = 500
"""So many emergency accounts are looked at one by one; whoever has more has none."""
_COLUMNS = (
    "exemption", "kind", "accounts", "rules", "gates", "reason", "asked-by", "approved-by", "from", "until",
    "reviewed", "review-every", "drilled", "watch", "safeguards", "matched", "covers", "excuses",
    "names-nobody", "names-no-rule", "names-no-gate", "approves-itself", "hollow-reason",
)  # fmt: skip


def asked(book: Rulebook) -> QuestionsByName:
    """What is asked of entries, and of emergency accounts and whom gates leave out."""
    questions = Questions(book).columns(EXEMPTION, *_COLUMNS, prefix="entry ")
    questions.columns(ACCOUNT, "account", "drilled", "use-explained", "watched", "last-sign-in", "covered-by")
    questions.columns(ACCOUNT, "left-out-by", "left-out-unregistered")
    return questions.conditions(
        ACCOUNT,
        emergency="kind = emergency",
        usable="usable",
        strong="some factor (phishing-resistant and state = active)",
        shared="some factor (state = active and length(shared-with) > 0)",
        unlisted="enabled and length(left-out-unregistered) > 0",
    ).asked


def report(judgement: Judgement, answers: Mapping[str, pl.Series]) -> TopicReport:
    """Every entry of the register with its state, and what is amiss with it."""
    entries = pl.DataFrame([answers[f"entry {name}"].alias(name) for name in _COLUMNS])
    # How many breaches an entry covers is counted while the rules are judged.
    entries = entries.with_columns(judgement.context.frames[EXEMPTION.name]["excuses"])
    rows = _rows(entries, judgement.at)
    return TopicReport(
        topic="exemptions",
        at=judgement.at,
        noun="entry",
        plural="entries",
        states=STATES,
        rows=rows,
        kinds={
            "covers": Kind.COUNT,
            "excuses": Kind.COUNT,
            "until": Kind.INSTANT,
            "from": Kind.INSTANT,
            "review due": Kind.INSTANT,
            "reviewed": Kind.INSTANT,
            "drilled": Kind.INSTANT,
            "problems": Kind.WORDS,
            "accounts": Kind.WORDS,
            "rules": Kind.WORDS,
            "gates": Kind.WORDS,
            "watch": Kind.WORDS,
        },
        sections=tuple(_sections(answers)),
        numbers={
            "there is a register": judgement.covers is not None,
            "breaches made exempt": sum(count.exempt for count in judgement.counts()),
            "emergency accounts usable": int(
                (answers["emergency"] & answers["usable"]).fill_null(False).sum()
            ),
            "emergency accounts unproven": int(
                (answers["emergency"].fill_null(False) & answers["usable"].is_null()).sum()
            ),
        },
    )


def _rows(entries: pl.DataFrame, at: datetime) -> pl.DataFrame:
    now = pl.lit(at, dtype=INSTANT)
    begun = (pl.col("from") <= now).fill_null(True)
    over = (pl.col("until") <= now).fill_null(False)
    emergency = (pl.col("kind") == EMERGENCY).fill_null(False)
    due = pl.col("reviewed") + pl.col("review-every")
    faults = (
        (NO_END, pl.col("until").is_null() & ~emergency),
        (UNREVIEWED, (due < now).fill_null(True)),
        (NOT_APPROVED, pl.col("approved-by").is_null()),
        (OWN_APPROVAL, pl.col("approves-itself").fill_null(False)),
        (NOBODY, pl.col("covers") == 0),
        (
            NO_RULE,
            (pl.col("rules").list.len() > 0)
            & (pl.col("names-no-rule").list.len() == pl.col("rules").list.len()),
        ),
        (NO_GATE, (pl.col("names-no-gate").list.len() > 0).fill_null(False)),
        (
            UNNEEDED,
            (pl.col("excuses") == 0)
            & (pl.col("covers") > 0)
            & (pl.col("gates").list.len() == 0)
            & ~emergency,
        ),
        (BROADER, (pl.col("covers") > pl.col("matched")).fill_null(True)),
        (HOLLOW, pl.col("hollow-reason").fill_null(True)),
    )
    amiss = pl.concat_list(pl.when(truth).then(pl.lit(word)) for word, truth in faults).list.drop_nulls()
    stated = entries.with_columns(due.alias("review due"), amiss.alias("problems")).with_columns(
        pl.when(over & (pl.col("excuses") > 0)).then(pl.lit(RELIED_ON))
        .when(over).then(pl.lit(OVER))
        .when(~begun).then(pl.lit(NOT_YET))
        .when(pl.col("problems").list.len() > 0).then(pl.lit(AMISS))
        .otherwise(pl.lit(HOLDS))
        .alias(STATE)
    )  # fmt: skip
    kept = stated.with_columns(
        pl.when(pl.col(STATE).is_in([RELIED_ON, AMISS]))
        .then(pl.col("problems"))
        .otherwise([])
        .alias("problems"),
        pl.col("kind").cast(pl.String),
    ).drop("names-nobody", "names-no-rule", "names-no-gate", "approves-itself", "hollow-reason")
    return in_order(kept, STATES, pl.col("excuses") * -1, "exemption")


def _sections(answers: Mapping[str, pl.Series]) -> list[Section]:
    sections = []
    rows = answers["emergency"].fill_null(False).arg_true().head(_MOST_EMERGENCY)
    if len(rows):
        names = ("account", "drilled", "last-sign-in", "use-explained", "watched")
        safe = pl.DataFrame([answers[name].gather(rows) for name in names]).with_columns(
            pl.Series("problems", [_amiss_with(answers, row) for row in rows], dtype=pl.List(pl.String)),
            pl.col("watched").fill_null(False),
        )
        kinds = {
            "drilled": Kind.INSTANT,
            "last-sign-in": Kind.INSTANT,
            "use-explained": Kind.FLAG,
            "watched": Kind.FLAG,
            "problems": Kind.WORDS,
        }
        sections.append(Section("emergency", safe, kinds))
    unlisted = answers["unlisted"].fill_null(False).arg_true()
    if len(unlisted):
        open_ones = "left-out-unregistered"
        out = pl.DataFrame([answers[name].gather(unlisted) for name in ("account", open_ones)])
        grouped = out.explode(open_ones).group_by(open_ones, maintain_order=True).agg("account")
        shown = grouped.select(
            pl.col(open_ones).alias("gate"),
            pl.col("account").list.len().cast(pl.Int64).alias("accounts"),
            pl.col("account").alias("which"),
        )
        kinds = {"accounts": Kind.COUNT, "which": Kind.WORDS}
        sections.append(Section("unlisted", shown, kinds))
    return sections


def _amiss_with(answers: Mapping[str, pl.Series], row: int) -> list[str]:
    """What is amiss with an emergency account, in words."""
    drilled = answers["drilled"][row]
    unexplained = answers["use-explained"][row] is False
    asked_more = bool(answers["covered-by"][row] is not None and len(answers["covered-by"][row]))
    wrong = (
        ("never tried", drilled is None),
        ("use not explained", unexplained),
        ("nobody is told", not answers["watched"][row]),
        ("no factor of its own that resists phishing", answers["strong"][row] is False),
        ("shares a device", answers["shared"][row] is True),
        ("a gate asks it for what it lacks", asked_more and answers["strong"][row] is False),
    )
    return [word for word, holds in wrong if holds]


EXEMPTIONS_TOPIC = Topic(
    "exemptions",
    "Exemptions: what is exempt from rules, approved by whom, and until when",
    ("kind", "approved-by", "asked-by", "state"),
    asked,
    report,
    whole_book=True,
)
