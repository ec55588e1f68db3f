"""The words of the topic factors."""

from __future__ import annotations

from zoneinfo import ZoneInfo

import polars as pl

from keymallet.core.base.listing import how_many, some_names
from keymallet.core.topics.factors import (
    ASKED,
    BETWEEN,
    CONSOLE,
    LEFT_OUT,
    NONE,
    RESISTANT,
    SECOND,
    UNPROVEN,
    WATCHED,
    WEAK,
)
from keymallet.core.topics.report import STATE, Section, TopicReport
from keymallet.views.topic_words.model import SectionWords, TopicWords, unproven


def _headline(report: TopicReport) -> str:
    short, of = report.number(NONE, WEAK), how_many(report.rows.height, "account")
    told = f"{short:,} of {of} have no second factor, or only a weak one"
    return told + unproven(report.number(UNPROVEN))


def _sentences(report: TopicReport, clock: ZoneInfo) -> list[str]:
    rows = report.rows
    parts = [
        f"{report.number(RESISTANT):,} with a phishing-resistant factor",
        f"{report.number(SECOND):,} with another second factor",
        f"{report.number(WEAK):,} with a weak factor only",
        f"{report.number(NONE):,} with no second factor",
    ]
    parts += [f"{report.number(UNPROVEN):,} unproven"] if report.number(UNPROVEN) else []
    sentences = [f"{how_many(rows.height, 'account')} can sign in: {', '.join(parts)}."]
    if not report.numbers["gates are told of"]:
        return [
            *sentences,
            "No source reports sign-in requirements: who has to use a second factor is not known.",
        ]
    of = {word: int((rows["gate"] == word).sum()) for word in (ASKED, LEFT_OUT, WATCHED, BETWEEN, UNPROVEN)}
    could = int(((rows["gate"] != ASKED) & rows[STATE].is_in([SECOND, RESISTANT])).sum())
    last = int((rows["second factors"] == 1).sum())
    return [
        *sentences,
        f"Sign-in requirements ask {of[ASKED]:,} of them for a second factor. "
        f"Left out: {of[LEFT_OUT]:,}, only on trial: {of[WATCHED]:,}, covered by none: {of[BETWEEN]:,}, "
        f"not known: {of[UNPROVEN]:,}.",
        f"{could:,} have a second factor that no requirement asks for; {last:,} have only one second factor.",
    ]


def _of_account(report: TopicReport, clock: ZoneInfo) -> list[str]:
    if not report.rows.height:
        return ["nobody can sign in to it"]
    row = report.rows.row(0, named=True)
    level = {UNPROVEN: "", CONSOLE: "; nothing is open over the network"}.get(
        row["level"], f"; the weakest way in over the network reaches {row['level']}"
    )
    gates = {ASKED: row["covered by"], LEFT_OUT: row["left out by"]}.get(row["gate"], row["watched by"])
    notes = [f"{row[STATE]}{level}", f"gates: {row['gate']}{' by ' + ', '.join(gates) if gates else ''}"]
    if row["second factors"] == 1:
        notes.append("only one second factor")
    return ["; ".join(notes)]


def _on_gates(section: Section, report: TopicReport) -> str:
    gates = section.rows
    empty = gates.filter((pl.col("state") == "in-force") & (pl.col("asks") == 0))["gate"]
    on_trial = gates.filter(pl.col("state") == "on-trial")["gate"]
    notes = [f"asks nobody: {some_names(empty)}"] if len(empty) else []
    notes += (
        [f"on trial, so everybody can sign in without it: {some_names(on_trial)}"] if len(on_trial) else []
    )
    return "; ".join(notes)


WORDS = TopicWords(
    _headline,
    _sentences,
    _of_account,
    shown=(STATE, "account", "unit", "population", "gate", "level"),
    sections={
        "gates": SectionWords("gates", _on_gates),
        "not-asked": SectionWords(
            "accounts that no requirement asks for a second factor", short={"which": 3}
        ),
        "wanting": SectionWords("factors to check", short={"on": 3}),
    },
)
