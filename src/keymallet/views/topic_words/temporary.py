"""The words of the topic temporary."""

from __future__ import annotations

from zoneinfo import ZoneInfo

import polars as pl

from keymallet.core.base.listing import how_many
from keymallet.core.topics.report import STATE, TopicReport
from keymallet.core.topics.temporary import AMISS, OF_ACCOUNT, OF_PASSWORD, OUTLIVES, SOON, UNPROVEN
from keymallet.views.topic_words.model import SectionWords, TopicWords, day, unproven


def _headline(report: TopicReport) -> str:
    wrong = report.number(OUTLIVES, AMISS)
    told = f"{wrong:,} of {report.rows.height:,} accounts, passwords and keys are not in order"
    return f"{told}{unproven(report.number(UNPROVEN))}"


def _sentences(report: TopicReport, clock: ZoneInfo) -> list[str]:
    rows = report.rows
    accounts, passwords = (int((rows["what"] == what).sum()) for what in (OF_ACCOUNT, OF_PASSWORD))
    keys = rows.height - accounts - passwords
    return [
        f"{how_many(accounts, 'temporary account')}, {how_many(passwords, 'password')} with an end, "
        f"{how_many(keys, 'key or pass', 'keys and passes')} that work, or may.",
        f"{report.number(OUTLIVES):,} still open past their end date, {report.number(AMISS):,} to correct, "
        f"{report.number(SOON):,} end within four weeks{unproven(report.number(UNPROVEN))}.",
        *_may_be_temporary(report),
    ]


def _may_be_temporary(report: TopicReport) -> list[str]:
    number = report.numbers["may be temporary"]
    return [f"Of {how_many(number, 'account')} it is not known whether they are temporary."] if number else []


def _of_account(report: TopicReport, clock: ZoneInfo) -> list[str]:
    return [
        f"{row['what']}{' ' + row['which'] if row['which'] else ''}: "
        f"{', '.join(row['problems']) or row[STATE]}"
        f"{', ends ' + day(row['ends'], clock) if row['ends'] else ', no end'}"
        for row in report.rows.iter_rows(named=True)
    ]


def _still_open(rows: pl.DataFrame) -> pl.DataFrame:
    """The rows with one column that says what is still open: `switched on, 1 key, 2 sessions`."""
    parts = [
        pl.when("enabled").then(pl.lit("switched on")),
        *(
            pl.when(pl.col(name) == 1)
            .then(pl.lit(f"1 {name.removesuffix('s')}"))
            .when(pl.col(name) > 1)
            .then(pl.format("{} {}", name, pl.lit(name)))
            for name in _COUNTED
        ),
    ]
    still = pl.concat_list(parts).list.drop_nulls().list.join(", ")
    return rows.with_columns(still.alias("still open")).drop("enabled", *_COUNTED)


_COUNTED = ("keys", "sessions", "openings")


WORDS = TopicWords(
    _headline,
    _sentences,
    _of_account,
    shown=(STATE, "what", "account", "which", "ends", "problems"),
    sections={
        "problems": SectionWords("what to correct", short={"on": 1}),
        "still-open": SectionWords(
            "past their end date, and still open",
            lambda section, report: (
                "the end of an account, of its password and of its keys are three different dates;"
                " still open: keys, sessions and elevations"
            ),
            worded=_still_open,
        ),
    },
)
