"""The summary of a run: rule by rule, then the worst accounts, then what was not read."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from pathlib import PurePath
from typing import Any

import polars as pl
from rich.console import Console
from rich.padding import Padding
from rich.table import Table
from rich.text import Text

from keymallet.core.base.listing import and_more, how_many, some_names
from keymallet.core.explaining.untold import Untold
from keymallet.core.facts.gaps import Gap
from keymallet.core.judging.judge import RuleCount
from keymallet.core.judging.run import Run
from keymallet.core.rulebook.model import SEVERITIES, TOPICS
from keymallet.views.plain_table import PlainTable
from keymallet.views.terminal import SEVERITY_STYLES, VERDICT_STYLES, lasting, moment, text

LONGEST_WHOLE = 44
BAR = 16
EIGHTHS = ("", "▏", "▎", "▍", "▌", "▋", "▊", "▉")
GAPS_SHOWN = 8
CAUSES_SHOWN = 4
SHORT = 12
"""So many characters of a digest tell one file from another; JSON has it whole."""


def show_run(out: Console, run: Run) -> None:
    """Print what was judged and when, by which book."""
    edition = f", edition {run.rulebook_edition}" if run.rulebook_edition else ""
    out.print(text(f"{run.rulebook_title}{edition}", "bold"))
    judged = f"{run.organisation}, judged at {moment(run.at, run.clock)} ({run.clock.key})"
    evidence = f"{how_many(run.accounts, 'account')} from {how_many(run.sources, 'source')}"
    out.print(text(f"{judged}: {evidence}, read {moment(run.read_at, run.clock)}", "dim"))


def show_digests(out: Console, run: Run) -> None:
    """Print of which files and snapshot exactly the run was."""
    files = {**run.rulebook_files, **({run.register_file: run.register_digest} if run.register_file else {})}
    named = [f"{PurePath(name).name} {digest[:SHORT]}" for name, digest in files.items()]
    out.print(text(" · ".join([*named, f"snapshot {run.snapshot_digest[:SHORT]}"]), "dim"))


def show_rules(out: Console, counts: list[RuleCount], most: int, option: str = "--all") -> None:
    """Print a line for each rule, the worst first; of many only the worst, and how many there are besides."""
    table = PlainTable()
    table.add_column("rule", overflow="fold", ratio=1)
    table.add_column("severity", no_wrap=True)
    excused = [name for name in ("pending", "exempt") if any(getattr(count, name) for count in counts)]
    for name in ("in\nscope", "met", "breach", *excused, "unproven"):
        table.add_column(name, justify="right", no_wrap=True)
    table.add_bar("█ breach\n▒ unproven", BAR)
    worst_first = sorted(
        counts, key=lambda count: (-(count.breach > 0), -count.rule.severity, -count.breach, -count.unproven)
    )
    left = worst_first[most:]
    for count in worst_first[:most]:
        quiet = "" if count.breach or count.unproven or count.pending or count.exempt else "dim"
        spared = [(getattr(count, name), VERDICT_STYLES[name]) for name in excused]
        table.add_row(
            text(count.rule.id, quiet),
            Text(count.rule.severity.word, SEVERITY_STYLES[count.rule.severity] if count.breach else quiet),
            Text(f"{count.in_scope:,}", quiet),
            Text(f"{count.met:,}", quiet),
            Text(f"{count.breach:,}" if count.breach else "·", "red" if count.breach else quiet),
            *(Text(f"{number:,}" if number else "·", style if number else quiet) for number, style in spared),
            Text(f"{count.unproven:,}" if count.unproven else "·", "yellow" if count.unproven else quiet),
            bar(count),
        )
    out.print(table)
    if left:
        kinds = (
            (sum(1 for count in left if count.breach), "with breaches"),
            (sum(1 for count in left if count.unproven and not count.breach), "with something unproven"),
            (sum(1 for count in left if not count.breach and not count.unproven), "with neither"),
        )
        parts = ", ".join(f"{number} {kind}" for number, kind in kinds if number)
        out.print(text(f"{and_more(len(left), 'rule')}: {parts} ({option})", "dim"))


def show_untold(out: Console, found: Sequence[Untold]) -> None:
    """Print what no source reports, and which rules could not be judged for want of it."""
    if not found:
        return
    out.print()
    out.print(text("cannot be judged: no source reports", "dim"))
    table = PlainTable(header=False)
    table.add_column("", ratio=2)
    table.add_column("", ratio=3)
    table.add_column("", justify="right", no_wrap=True)
    for each in found:
        rules = ", ".join(each.rules)
        table.add_row(
            text(f"  {', '.join(each.what)}"),
            text(rules, "dim"),
            text(f"{each.verdicts:,} unproven", "yellow"),
        )
    out.print(table)


def show_topics(
    out: Console, counts: list[RuleCount], accounts: dict[str, int], not_judged: Collection[str] = ()
) -> None:
    """Print a line for each topic: its rules, its breaches, on how many accounts, and how to look closer.

    Of rules that are `not_judged`, named by their ids, nothing is counted.
    """
    table = PlainTable()
    table.add_column("topic", no_wrap=True)
    for name in ("rules", "breach", "accounts", "exempt", "unproven"):
        table.add_column(name, justify="right")
    table.add_column("worst", no_wrap=True)
    table.add_column("details", no_wrap=True)
    for topic in TOPICS:
        mine = [count for count in counts if count.rule.topic == topic]
        if not mine:
            continue
        rules, mine = len(mine), [count for count in mine if count.rule.id not in not_judged]
        breach, exempt, unproven = (sum(getattr(count, name) for count in mine) for name in _COUNTED)
        gravest = max((count.rule.severity for count in mine if count.breach), default=None)
        table.add_row(
            Text(topic, "" if breach else "dim"),
            f"{len(mine):,} of {rules:,}" if len(mine) < rules else f"{rules:,}",
            Text(f"{breach:,}" if breach else "·", "red" if breach else "dim"),
            Text(f"{accounts[topic]:,}" if accounts[topic] else "·", "" if accounts[topic] else "dim"),
            Text(f"{exempt:,}" if exempt else "·", VERDICT_STYLES["exempt"] if exempt else "dim"),
            Text(f"{unproven:,}" if unproven else "·", VERDICT_STYLES["unproven"] if unproven else "dim"),
            Text(gravest.word, SEVERITY_STYLES[gravest]) if gravest else Text("·", "dim"),
            Text(f"keymallet view {topic}", "cyan"),
        )
    out.print(table)


_COUNTED = ("breach", "exempt", "unproven")


def bar(count: RuleCount) -> Text:
    """Breach, unproven and met as parts of a bar; breaches are drawn to the eighth of a cell, any has one."""
    if not count.in_scope:
        return Text("nobody in scope", "dim")
    eighths = _part(count.breach, count.in_scope, 8 * BAR)
    breach = -(-eighths // 8)
    unproven = min(_part(count.unproven, count.in_scope, BAR), BAR - breach)
    drawn = Text().append("█" * (eighths // 8) + EIGHTHS[eighths % 8], "red")
    drawn.append("▒" * unproven, "yellow")
    return drawn.append("─" * (BAR - breach - unproven), "dim")


def _part(part: int, whole: int, cells: int) -> int:
    """So many of these cells; none for nothing, all for everything alone."""
    if part in (0, whole):
        return cells if part else 0
    return min(max(round(cells * part / whole), 1), cells - 1)


def show_worst_in_short(out: Console, worst: pl.DataFrame, accounts: list[str], breached: int) -> None:
    """Print a line for each of the worst accounts: how many breaches, and of which the gravest is.

    `worst` is as `breaches_in_short` counts them, of these accounts.
    """
    table = PlainTable(header=False)
    # A name that is divided cannot be copied; one of hundreds of letters would leave no room for the rest.
    table.add_column("", no_wrap=max(map(len, accounts), default=0) <= LONGEST_WHOLE)
    table.add_column("", justify="right", no_wrap=True)
    table.add_column("", no_wrap=True)
    table.add_column("", ratio=1, overflow="fold")
    for account, each in zip(accounts, worst.iter_rows(named=True), strict=True):
        table.add_row(
            text(f"  {account}"),
            how_many(each["breaches"], "breach", "breaches"),
            Text(each["severity"], SEVERITY_STYLES[SEVERITIES[each["severity"]]]),
            text(each["title"], "dim"),
        )
    out.print(table)
    if breached > len(accounts):
        out.print(text(f"  {and_more(breached - len(accounts), 'account')} in breach", "dim"))


def show_worst(out: Console, run: Run, findings: pl.DataFrame, accounts: list[str], breached: int) -> None:
    """Print the worst accounts, each with its breaches and why."""
    for account in accounts:
        mine = findings.filter((pl.col("account") == account) & (pl.col("verdict") == "breach"))
        first = mine.row(0, named=True)
        who = " · ".join(str(first[name]) for name in ("display", "unit") if first[name])
        head = text(account, "bold")
        head.append_text(text(f"  {who}", "dim") if who else Text())
        out.print(head)
        for row in mine.iter_rows(named=True):
            out.print(finding_line(run, row))
    if breached > len(accounts):
        out.print(text(f"{and_more(breached - len(accounts), 'account')} in breach", "dim"))


def show_people(out: Console, run: Run, findings: pl.DataFrame, most: int) -> None:
    """Print the people with findings, the one with most first."""
    key = ["account", "subject"]
    ranked = findings.group_by(key).agg(pl.len()).sort(["len", *key], descending=[True, False, False])
    for roster, person in ranked.select(key).head(most).iter_rows():
        mine = findings.filter((pl.col("account") == roster) & (pl.col("subject") == person))
        unit = mine["unit"][0]
        out.print(text(person, "bold").append_text(text(f"  {unit}" if unit else "", "dim")))
        for row in mine.iter_rows(named=True):
            out.print(finding_line(run, {**row, "subject": ""}))
    if ranked.height > most:
        out.print(text(and_more(ranked.height - most, "person", "people"), "dim"))


def show_systems(out: Console, run: Run, findings: pl.DataFrame, most: int) -> None:
    """Print the systems whose own settings fall short, the one with most first."""
    ranked = findings.group_by("account").agg(pl.len()).sort(["len", "account"], descending=[True, False])
    for system in ranked["account"].head(most):
        out.print(text(system, "bold"))
        for row in findings.filter(pl.col("account") == system).iter_rows(named=True):
            out.print(finding_line(run, row))
    if ranked.height > most:
        out.print(text(and_more(ranked.height - most, "system"), "dim"))


def show_numbers(out: Console, run: Run, findings: pl.DataFrame, most: int) -> None:
    """Print the numbers that are not what the book asks for."""
    for row in findings.head(most).iter_rows(named=True):
        out.print(finding_line(run, row))
    if findings.height > most:
        out.print(text(and_more(findings.height - most, "number"), "dim"))


def finding_line(run: Run, row: dict[str, Any]) -> Table:
    """A finding with its severity, its rule's title, its reason, and since when it holds."""
    line = Table.grid(padding=(0, 2, 0, 0))
    line.add_column(width=10)
    line.add_column(ratio=1, overflow="fold")
    severity = SEVERITIES[row["severity"]]
    said = text(row["title"])
    about = f" [{row['subject']}]" if row["subject"] else ""
    said.append_text(text(f"{about}: {row['because']}", "dim"))
    since = lasting(row, run.at, run.clock)
    if since:
        said.append_text(text(f" · {since}", "dim italic"))
    line.add_row(Text(f"  {row['severity']}", SEVERITY_STYLES[severity]), said)
    return line


def show_outcome(out: Console, run: Run, verdict: str, found: Sequence[Untold] = ()) -> None:
    """Print how the run came out; what could not be judged at all is counted by the rule, not the account."""
    unread = ((run.refused, "record"), (run.unreadable, "cell"))
    unproven = run.unproven - sum(each.verdicts for each in found)
    facts = [how_many(run.breaches, "breach", "breaches"), f"{unproven:,} unproven"]
    spared = ((run.pending, "pending"), (run.exempt, "exempt"))
    facts[1:1] = [f"{number:,} {word}" for number, word in spared if number]
    facts += [f"{how_many(number, noun)} not read" for number, noun in unread if number]
    out.print(Text(f"{', '.join(facts)}. {verdict}", "bold"))
    if found:
        rules = how_many(sum(len(each.rules) for each in found), "rule")
        largest = sorted(found, key=lambda each: (-len(each.rules), each.what))
        named = some_names(
            [f"{' and '.join(each.what)} ({len(each.rules)})" for each in largest], CAUSES_SHOWN
        )
        out.print(text(f"{rules} cannot be judged, since no source reports {named}.", "yellow"))


def show_evidence_gaps(out: Console, run: Run) -> None:
    """Print what of the evidence is incomplete, and which gaps were accepted."""
    show_gaps(out, run.gaps, GAPS_SHOWN, "--format json names them")
    for taken in run.accepted[:GAPS_SHOWN]:
        why = f"accepted until {taken.until.astimezone(run.clock):%Y-%m-%d}: {taken.text} ({taken.reason})"
        out.print(Padding(text(why, "dim"), (0, 0, 0, 2), expand=False))
    if len(run.accepted) > GAPS_SHOWN:
        more = and_more(len(run.accepted) - GAPS_SHOWN, "accepted gap")
        out.print(Padding(text(more, "dim"), (0, 0, 0, 2)))


_MISSING = ("not-read", "not-in-snapshot", "cut-short", "failed-reading")


def show_gaps(
    out: Console, gaps: Sequence[Gap], most: int = 2, others: str = "keymallet judge --all tells them"
) -> None:
    """Print what is not known of the evidence: `most` lines of it, and where the `others` are told."""
    # A source that is missing as a whole is never among those that are only counted.
    for gap in sorted(gaps, key=lambda gap: gap.gap not in _MISSING)[:most]:
        out.print(Padding(text(f"incomplete: {gap.text}", "yellow"), (0, 0, 0, 2), expand=False))
    if len(gaps) > most:
        more = and_more(len(gaps) - most, "gap")
        out.print(Padding(text(f"{more}: {others}", "yellow"), (0, 0, 0, 2)))
