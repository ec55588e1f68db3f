"""What a report shows beyond the logbook: pictures, what is coming, and the lines that facts came from.

It takes the snapshot that was judged, and most of it judging that again.
"""

from __future__ import annotations

import base64
from dataclasses import replace
from datetime import timedelta

import polars as pl

from keymallet.commands.logbooks import snapshot_of_run
from keymallet.commands.rejudging import judged_by
from keymallet.commands.report_content import Kept
from keymallet.core.evaluating.context import columns_used
from keymallet.core.evaluating.steps import END
from keymallet.core.explaining.findings import describe
from keymallet.core.facts.declaration import EXEMPTION
from keymallet.core.history.columns import FINDING
from keymallet.core.history.observed import observe
from keymallet.core.history.to_come import added_to_come
from keymallet.core.judging.judge import Judgement
from keymallet.core.rulebook.model import Rulebook
from keymallet.core.studies.ahead import coming, described
from keymallet.core.topics.registry import TOPICS
from keymallet.core.topics.report import by_group, work_out
from keymallet.reports.content import Content, Picture
from keymallet.sources.estate import Estate
from keymallet.sources.places import Places
from keymallet.store.snapshot import Snapshot
from keymallet.views.figures import figure_bytes
from keymallet.views.topic_figures import topic_figure
from keymallet.views.topic_words.registry import WORDS

LOOKED_AHEAD = timedelta(days=90)
_REWORDED = 100_000
"""So many findings are told anew; of more, telling them would take longer than judging them did."""
_ROWS_BEHIND = 40
"""So many rows of numbers stand behind a picture."""


def completed(
    content: Content, kept: Kept, estate: Estate, *, drawn: bool, ahead: bool, placed: bool
) -> Content:
    """The content with what its snapshot tells besides, if that is still there.

    With `drawn` it has its pictures, with `ahead` the reviews, drills and ends of exemptions to come, and
    with `placed` the files and lines that its accounts came from.
    """
    assert kept.record.snapshot is not None, "asked of a run that was judged"
    snapshot = snapshot_of_run(estate.snapshots, kept.record.snapshot)
    if snapshot is None:
        why = "The snapshot that was judged is no longer there: pictures, and what is coming, are left out."
        return replace(content, left_out=why)
    if placed:
        content = replace(content, places=_places(content, kept.book, estate, snapshot))
    if not (drawn or ahead):
        return content
    judgement = _judged_again(kept, snapshot, drawn=drawn)
    events = coming(judgement, content.at + min(LOOKED_AHEAD, END - content.at))
    if ahead:
        entries = [demand.id for demand in kept.book.demands if demand.table == EXEMPTION.name]
        mine = events.filter(pl.col("rule").cast(pl.String).is_in(entries))
        told = added_to_come(judgement, mine, content.findings, estate.answers)
        content = replace(content, ahead=described(judgement, mine).hstack(told))
    if not drawn:
        return content
    content = _reworded(content, judgement, events)
    return replace(content, pictures=_pictures(content, kept.book, judgement))


def _places(
    content: Content, book: Rulebook, estate: Estate, snapshot: Snapshot
) -> dict[str, tuple[str, int]]:
    """By finding, where its account or row stands in the files it was read from."""
    sources = snapshot.manifest.sources
    places = Places(
        estate.folder,
        {name: source.supply for name, source in sources.items()},
        {name: {file.path: file.digest for file in source.files} for name, source in sources.items()},
    )
    facts = {
        rule.id: (rule.table, sorted(columns_used([(rule.table, rule.must)]).get(rule.table, ())))
        for rule in book.rules
    }
    found = {}
    for row in content.findings.select(FINDING, "rule", "source", "name", "subject").iter_rows(named=True):
        if row["name"] and row["rule"] in facts:
            table, used = facts[row["rule"]]
            place = places.of(row["source"], table, used, row["name"], row["subject"] or "")
            if place is not None:
                found[row[FINDING]] = (place.file, place.line)
    return found


def _judged_again(kept: Kept, snapshot: Snapshot, *, drawn: bool) -> Judgement:
    """The judgement of the run; what the topics ask besides is only needed where they are drawn."""
    topics = TOPICS.values() if drawn else ()
    asked = [expression for topic in topics for expression in topic.asked(kept.book).values()]
    return judged_by(kept.record, kept.book, kept.register, snapshot, asked)


def _reworded(content: Content, judgement: Judgement, events: pl.DataFrame) -> Content:
    """The content with how much is coming, and its findings told anew, unless they are very many."""
    counted = events["rule"].cast(pl.String).value_counts(sort=True)
    content = replace(content, coming=tuple((str(rule), int(number)) for rule, number in counted.iter_rows()))
    if content.findings.height > _REWORDED:
        return content
    observed = observe(judgement, content.findings)
    said = describe(judgement, observed.alike).select("because", "change").hstack([observed.frame[FINDING]])
    findings = content.findings.join(said, on=FINDING, how="left", maintain_order="left", suffix="-now")
    told = [pl.coalesce(f"{name}-now", name).alias(name) for name in ("because", "change")]
    return replace(content, anew=findings.with_columns(told).select(content.findings.columns))


def _pictures(content: Content, book: Rulebook, judgement: Judgement) -> tuple[Picture, ...]:
    found = []
    for name, topic in TOPICS.items():
        report = work_out(topic, judgement, book)
        by = topic.groupings[0]
        groups = by_group(report, by).head(_ROWS_BEHIND)
        states = [state.word for state in report.states if groups[state.word].sum()]
        svg = figure_bytes(topic_figure(report, content, topic.drawn_by or by), "svg", small=True)
        found.append(
            Picture(
                topic.title,
                tuple(WORDS[name].sentences(report, content.clock)),
                base64.b64encode(svg).decode(),
                (by, *states),
                tuple(
                    (str(row[by] or "–"), *(f"{row[state]:,}" for state in states))
                    for row in groups.iter_rows(named=True)
                ),
            )
        )
    return tuple(found)
