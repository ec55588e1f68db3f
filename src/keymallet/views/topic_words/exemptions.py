"""The words of the topic exemptions."""

from __future__ import annotations

from zoneinfo import ZoneInfo

import polars as pl

from keymallet.core.base.listing import how_many
from keymallet.core.topics.exemptions import AMISS, HOLDS, NOT_YET, OVER, RELIED_ON
from keymallet.core.topics.report import STATE, Section, TopicReport
from keymallet.views.topic_words.model import SectionWords, TopicWords, day, unproven


def _headline(report: TopicReport) -> str:
    wrong = report.number(RELIED_ON, AMISS)
    return f"{wrong:,} of {how_many(report.rows.height, 'entry', 'entries')} of the register need attention"


def _sentences(report: TopicReport, clock: ZoneInfo) -> list[str]:
    if not report.numbers["there is a register"]:
        return ["There is no register of exemptions: no account is exempt from any rule."]
    rows = report.rows
    holding = rows.filter(pl.col(STATE).is_in([AMISS, HOLDS]))
    sentences = [
        f"{how_many(rows.height, 'entry', 'entries')}: {holding.height:,} in force, which make "
        f"{how_many(report.numbers['breaches made exempt'], 'breach', 'breaches')} exempt."
    ]
    if report.number(RELIED_ON):
        relied = int(rows.filter(pl.col(STATE) == RELIED_ON)["excuses"].sum())
        sentences.append(f"{how_many(relied, 'breach', 'breaches')} were covered by entries that have ended.")
    soon = holding.drop_nulls("until").sort("until", maintain_order=True)
    if soon.height:
        sentences.append(f"The next to end is {soon['exemption'][0]}, on {day(soon['until'][0], clock)}.")
    return sentences


def _of_account(report: TopicReport, clock: ZoneInfo) -> list[str]:
    notes = []
    for row in report.rows.filter(pl.col("covers") > 0).iter_rows(named=True):
        until = f"until {day(row['until'], clock)}" if row["until"] else "no end"
        # Of one account it is not told whether an entry is amiss: that rests on all it covers.
        holds = row[STATE] if row[STATE] in (OVER, RELIED_ON, NOT_YET) else "in force"
        rules = ", ".join(row["rules"])
        notes.append(f"{row['exemption']} ({row['kind']}): {holds}, {until}; rules: {rules}")
    return notes


def _on_emergency(section: Section, report: TopicReport) -> str:
    told = f"{report.numbers['emergency accounts usable']:,} of {section.rows.height:,} can be used"
    return told + unproven(report.numbers["emergency accounts unproven"])


WORDS = TopicWords(
    _headline,
    _sentences,
    _of_account,
    shown=(STATE, "exemption", "kind", "covers", "excuses", "until", "problems"),
    sections={
        "emergency": SectionWords("emergency accounts", _on_emergency),
        "unlisted": SectionWords(
            "excluded from a sign-in requirement, but not in the register", short={"which": 3}
        ),
    },
)
