"""The words of the topic passwords."""

from __future__ import annotations

from zoneinfo import ZoneInfo

import polars as pl

from keymallet.core.base.listing import how_many
from keymallet.core.facts import wording
from keymallet.core.topics.passwords import EMPTY, HANDED_OUT, SOON, TOO_OLD, UNANSWERED, UNPROVEN, WEAK
from keymallet.core.topics.report import STATE, TopicReport
from keymallet.views.topic_words.model import SectionWords, TopicWords, day, span, unproven

_WRONG = (EMPTY, HANDED_OUT, TOO_OLD, WEAK, UNANSWERED)
_UNTOLD = {
    "weak": "how it is stored",
    "empty": "whether it is empty",
    "handed_out": "whether it was handed out",
    "unanswered": "whether a change is required",
}


def _headline(report: TopicReport) -> str:
    wrong = f"{report.number(*_WRONG):,} of {how_many(report.rows.height, 'password')} are not in order"
    return f"{wrong}{unproven(report.number(UNPROVEN))}"


def _sentences(report: TopicReport, clock: ZoneInfo) -> list[str]:
    rows = report.rows
    worst = [f"{report.number(word):,} {word}" for word in _WRONG if report.number(word)]
    open_ones = report.number(UNPROVEN)
    worst += [f"{open_ones:,} not known (data missing)"] if open_ones else []
    sentences = [f"{how_many(rows.height, 'password')} in use: {', '.join(worst) or 'nothing conspicuous'}."]
    if report.numbers["may have none"]:
        accounts = how_many(report.numbers["may have none"], "account")
        sentences.append(f"Of {accounts} among them it is not known whether there is a password in use.")
    ages = rows["age"].drop_nulls().sort()
    if len(ages):
        middle, oldest = ages[len(ages) // 2], ages[-1]
        sentences.append(f"Half are younger than {middle.days:,} d; the oldest is {oldest.days:,} d old.")
    if not report.numbers["the book has a limit"]:
        sentences.append("The rulebook sets no limit on age: only the systems' own limits count.")
    sentences.append(f"{report.number(SOON):,} reach their limit within four weeks.")
    untold = [f"{what} ({report.numbers[name]:,})" for name, what in _UNTOLD.items() if report.numbers[name]]
    if untold:
        sentences.append("Not reported by their sources: " + ", ".join(untold) + ".")
    return sentences


def _of_account(report: TopicReport, clock: ZoneInfo) -> list[str]:
    if not report.rows.height:
        return []
    row = report.rows.row(0, named=True)
    notes = [row[STATE]]
    if row["age"] is not None:
        limit = f"limit {span(row['limit'])} ({row['limit by']})" if row["limit"] else "no limit"
        notes.append(f"{span(row['age'])} old, {limit}")
    if row["due"] is not None:
        notes.append(f"due {day(row['due'], clock)}")
    if row["shared with"]:
        notes.append(f"same as {', '.join(row['shared with'])}")
    return ["; ".join(notes)]


def _weaker(rows: pl.DataFrame) -> pl.DataFrame:
    """The rows with what is asked and wanted in one column each, whether a number or an age."""
    asks, wants = (
        pl.coalesce(pl.col(number).cast(pl.String), wording.spans(rows[age]))
        for number, age in (("it asks", "it lets"), ("the rulebook", "the rulebook lets"))
    )
    told = rows.with_columns(asks.fill_null("nothing").alias("it asks"), wants.alias("the rulebook"))
    return told.drop("it lets", "the rulebook lets")


WORDS = TopicWords(
    _headline,
    _sentences,
    _of_account,
    shown=(STATE, "account", "unit", "age", "limit", "limit by", "due"),
    sections={
        "weaker": SectionWords("systems with weaker settings than the rulebook", worded=_weaker),
        "batches": SectionWords(
            "set for many accounts on one day",
            lambda section, report: "probably one password for all of them, or copied from another system",
            short={"which": 3},
        ),
        "copies": SectionWords("accounts with the same password"),
    },
)
