"""What a report of a run holds, gathered from the logbook; and the part of it that somebody is to have."""

from __future__ import annotations

import tomllib
from dataclasses import replace
from typing import NamedTuple
from zoneinfo import ZoneInfo

import polars as pl

from keymallet.commands.logbooks import read_kept_register, read_kept_rulebook
from keymallet.core.base.listing import how_many
from keymallet.core.evaluating.context import columns_used
from keymallet.core.facts.declaration import TABLES
from keymallet.core.history.added import added
from keymallet.core.history.columns import FINDING, TOLD_AT
from keymallet.core.history.states import LASTING
from keymallet.core.rulebook.model import SEVERITIES, Demand, Rule, Rulebook
from keymallet.core.rulebook.register import Register
from keymallet.reports.content import Content, Digest, RuleLine, SourceLine
from keymallet.store.logbook.logbook import Logbook
from keymallet.store.logbook.records import RunLine, RunRecord


class Kept(NamedTuple):
    """What a run was judged by, read from what the logbook keeps."""

    record: RunRecord
    book: Rulebook
    register: Register | None


def content_of(logbook: Logbook, run: RunLine, before: RunLine | None) -> tuple[Content, Kept]:
    """What the logbook tells of a run, and what it was judged by.

    Raises KeymalletError if the run's findings are no longer kept.
    """
    record = logbook.record(run)
    assert record.rulebook is not None and record.snapshot is not None, "asked of a run that was judged"
    texts = {text.name: logbook.text(text.blake3) for text in record.texts}
    book, register = read_kept_rulebook(record, texts), read_kept_register(record, texts)
    content = Content(
        organisation=record.organisation,
        clock=ZoneInfo(record.clock),
        at=record.judged_at,
        run=run.number,
        head=run.head,
        keymallet=record.keymallet,
        rulebook=record.rulebook.title,
        edition=record.rulebook.edition,
        digests=_digests(record),
        read_at=record.snapshot.read_at,
        accounts=record.snapshot.accounts,
        findings=_in_order(logbook.findings(run), run, ZoneInfo(record.clock)),
        changes=logbook.transitions(run),
        rules=_rules(record, book, texts),
        sources=tuple(
            SourceLine(
                name,
                source.read_at,
                source.accounts,
                source.refused,
                tuple([source.failed] if source.failed else source.incomplete),
            )
            for name, source in record.snapshot.sources.items()
        ),
        gaps=tuple(str(gap["text"]) for gap in record.gaps),
        gaps_of_all=len(record.gaps),
        unproven=sum(rule["unproven"] for rule in record.rules),
        refused=sum(source.refused for source in record.snapshot.sources.values()),
        before=(before.number, before.judged_at) if before else None,
        exemptions=_exemptions(record, register),
    )
    return content, Kept(record, book, register)


def _in_order(table: pl.DataFrame, run: RunLine, clock: ZoneInfo) -> pl.DataFrame:
    """The findings that are not over: the gravest first, the late ones of each first, then by due date."""
    table = table.with_columns(added(table, run.judged_at).drop(FINDING))
    by = [
        pl.col("severity").cast(pl.Enum(list(SEVERITIES))),
        pl.col("late-by").is_null(),
        pl.col("due"),
        "account",
        "rule",
        FINDING,
    ]
    place = pl.int_range(pl.len(), dtype=pl.UInt32).alias("place")
    known = table.select("state", "severity", "late-by", "due", "account", "rule", FINDING, place)
    lasting = known.filter(pl.col("state").is_in([*map(str, LASTING), "late"]))
    order = lasting.sort(by, nulls_last=True)["place"]
    # Column by column: two orders of all that was said of a million findings need not stand side by side.
    table = pl.DataFrame([table.drop_in_place(name).rechunk().gather(order) for name in list(table.columns)])
    # What goes on was said in the run that saw it first: "2 d ago" was true then.
    day = pl.col(TOLD_AT).dt.convert_time_zone(clock.key).dt.strftime("%Y-%m-%d")
    dated = (pl.col("because") != "") & (pl.col(TOLD_AT) < run.judged_at)
    because = pl.when(dated).then(pl.format("{} (as of {})", "because", day)).otherwise("because")
    return table.with_columns(because.alias("because"))


def _digests(record: RunRecord) -> tuple[Digest, ...]:
    assert record.rulebook is not None and record.snapshot is not None
    found = [Digest("rulebook, SHA-256", text.name, text.sha256) for text in record.rulebook.texts]
    if record.register:
        found.append(Digest("register, SHA-256", record.register.name, record.register.sha256))
    found.append(Digest("snapshot, BLAKE3", record.snapshot.folder, record.snapshot.blake3))
    return tuple(found)


def _rules(record: RunRecord, book: Rulebook, texts: dict[str, str]) -> tuple[RuleLine, ...]:
    """The rules with what they say, the gravest first; those with most in breach of each first."""
    counts = {rule["rule"]: rule for rule in record.rules}
    written = {name: tomllib.loads(text) for name, text in texts.items()}

    def line(demand: Demand) -> RuleLine:
        file = written.get(demand.origin, {})
        said = file.get("rule", {}).get(demand.id) or file.get("tally", {}).get(demand.id) or {}
        count = counts.get(demand.id, {})
        names = ("in-scope", "breach", "exempt", "unproven")
        in_scope, breach, exempt, unproven = (int(count.get(name, 0)) for name in names)
        must = said.get("must", "")
        if "between" in said:
            must = f"count ({said['count']}) between {said['between'][0]} and {said['between'][1]}"
        return RuleLine(
            demand.id,
            demand.title,
            demand.severity.word,
            demand.topic,
            str(said.get("who", "")),
            str(must),
            demand.cite,
            demand.advice,
            _facts(demand),
            in_scope,
            breach,
            exempt,
            unproven,
            judged_nobody=0 < unproven == in_scope,
        )

    lines = [line(demand) for demand in book.demands]
    return tuple(sorted(lines, key=lambda each: (-SEVERITIES[each.severity], -each.breach, each.id)))


def _facts(demand: Demand) -> tuple[str, ...]:
    """What has to hold rests on these, as table.fact; of a tally, what is counted."""
    asked = demand.must if isinstance(demand, Rule) else demand.expressions[-1]
    used = columns_used([(demand.table, asked)])
    known = {name: set(TABLES[name].names) for name in used}
    return tuple(sorted(f"{table}.{fact}" for table, facts in used.items() for fact in facts & known[table]))


def _exemptions(record: RunRecord, register: Register | None) -> tuple[tuple[str, str, str, str], ...]:
    if register is None:
        return ()
    clock = ZoneInfo(record.clock)
    return tuple(
        (
            entry.id,
            entry.kind,
            f"{entry.end.astimezone(clock):%Y-%m-%d}" if entry.end else "no end",
            entry.reason,
        )
        for entry in register.exemptions
        if (entry.start is None or entry.start <= record.judged_at)
        and (entry.end is None or entry.end > record.judged_at)
    )


_OF_RULES = {"topic", "severity", "rule"}
"""What tells rules apart: where only these narrow, a rule that was judged for nobody is told."""
_OF_CHANGES = {"topic", "severity", "rule", "unit", "answerer"}
"""What a change tells of itself, as a finding does."""


def _asks_for(rule: RuleLine, wanted: dict[str, list[str]]) -> bool:
    told = {"rule": rule.id, "topic": rule.topic, "severity": rule.severity}
    return all(told[name] in values for name, values in wanted.items())


def narrowed(content: Content, wanted: dict[str, list[str]], finding: str = "") -> Content:
    """The same report of these alone, without anything that is anybody else's.

    `wanted` are the values that are asked for, by column.
    """
    keep, said = pl.lit(True), []
    for name, values in wanted.items():
        keep &= pl.col(name).fill_null("").is_in(values)
        said.append(f"{name} {', '.join(values)}" if any(values) else f"what has no {name}")
    if finding:
        keep &= pl.col(FINDING) == finding
        said.append(f"finding {finding}")
    topics = pl.col("rule").replace_strict({rule.id: rule.topic for rule in content.rules}, default=None)

    def part(frame: pl.DataFrame) -> pl.DataFrame:
        return frame.with_columns(topics.alias("topic")).filter(keep).drop("topic")

    findings = part(content.findings)
    # A change tells less than a finding: what is asked of the rest is asked of the finding it is of.
    if {*wanted} <= _OF_CHANGES:
        changes = part(content.changes)
    else:
        changes = content.changes.join(findings, on=FINDING, how="semi", maintain_order="left")
    used = set(findings["rule"])
    if {*wanted} <= _OF_RULES and not finding:
        asked = (rule for rule in content.not_judged if _asks_for(rule, wanted))
        used |= {rule.id for rule in asked}
    gaps = (f"{how_many(len(content.gaps), 'gap')} in the evidence as a whole",) if content.gaps else ()
    return replace(
        content,
        findings=findings,
        changes=changes,
        rules=tuple(
            replace(rule, in_scope=0, breach=0, exempt=0, unproven=0)
            for rule in content.rules
            if rule.id in used
        ),
        sources=(),
        gaps=gaps,
        unproven=0,
        refused=0,
        narrowed=tuple(said),
        pictures=(),
        coming=(),
        ahead=None,
        exemptions=(),
        accounts=0,
        left_out="",
    )
