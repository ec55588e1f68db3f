"""Show what changed between two runs of the logbook: what is new, late, back, mended or not seen, and why."""

from __future__ import annotations

import argparse
from collections.abc import Sequence
from datetime import timedelta
from pathlib import Path

import polars as pl

from keymallet.commands.exit_codes import BREACH, CLEAN, INCOMPLETE
from keymallet.commands.logbooks import open_logbook, snapshot_of_run
from keymallet.commands.opening import open_estate
from keymallet.commands.runs import chosen_run, judged_run, run_called
from keymallet.commands.wholeness import wholeness
from keymallet.commands.writing import output_stream, write_rows
from keymallet.core.base.problems import fail
from keymallet.core.facts.declaration import ACCOUNT, PERSON
from keymallet.core.history.columns import FINDING
from keymallet.core.history.moves import Moves, moves_between
from keymallet.core.history.net import net_changes, passing
from keymallet.core.history.states import State
from keymallet.core.mending.outcome import RESULT, RESULTS, STANDS, with_results
from keymallet.core.rulebook.model import SEVERITIES
from keymallet.proposals.worksheet import read_worksheets
from keymallet.sources.estate import Estate
from keymallet.store.logbook.logbook import TRANSITIONS, Logbook
from keymallet.store.logbook.records import RunLine
from keymallet.views.changes import Compared, show_changes
from keymallet.views.proposals import show_outcomes
from keymallet.views.terminal import console

ROWS_OF_PROPOSALS = 20
_WORSE = (State.NEW, State.BACK, State.EXEMPTION_ENDED)


def run(options: argparse.Namespace) -> int:
    """Compare two runs, and show or write what changed."""
    estate = open_estate(options.estate)
    logbook = open_logbook(estate)
    runs = logbook.runs()
    if options.proposals:
        return _of_proposals(options, estate, logbook, chosen_run(runs, options.end, estate.clock))
    start, end = _chosen(runs, options, estate)
    between = [line for line in runs if line.judged and start.number < line.number <= end.number]
    every = pl.concat([pl.DataFrame(schema=TRANSITIONS), *(logbook.transitions(line) for line in between)])
    changes = net_changes(every)
    late = _newly_late(logbook, start, end)
    if options.format != "table":
        write_rows(options, _rows(changes), _head(estate, start, end), "changes")
    else:
        failed = [line for line in runs if start.number < line.number and not line.judged]
        compared = Compared(
            start,
            end,
            changes,
            late,
            passing(every),
            failed,
            _moves(estate, logbook, start, end),
            estate.clock,
            _older_by(logbook, start, end),
        )
        with output_stream(options.output) as stream:
            show_changes(console(stream), compared, by=options.by, rows=options.rows, everything=options.all)
    return _code(options.fail_on, changes, end)


def _of_proposals(options: argparse.Namespace, estate: Estate, logbook: Logbook, end: RunLine) -> int:
    """Show or write which proposals of a folder have ended their findings, by what a run found."""
    proposals = read_worksheets(Path(options.proposals))
    ids = proposals["findings"].drop_nulls().str.split(" ").explode().unique()
    told = with_results(proposals, _states(logbook, end, ids))
    if options.format != "table":
        head = {"organisation": estate.organisation, "run": end.number, "judged-at": end.judged_at}
        write_rows(
            options, told.select("proposal", RESULT, "account", "what to do", "findings"), head, "proposals"
        )
    else:
        with output_stream(options.output) as stream:
            most = None if options.all else options.rows or ROWS_OF_PROPOSALS
            show_outcomes(console(stream), estate.organisation, end.number, told, most)
    results = set(told[RESULT])
    return BREACH if STANDS in results else INCOMPLETE if results & set(RESULTS) else CLEAN


def _states(logbook: Logbook, end: RunLine, ids: pl.Series) -> dict[str, State]:
    """Where these findings stood after a run; of those that are over, what they came to."""
    # What is only unproven has no state of its own.
    lasting = (
        logbook.findings(end, (FINDING, "state")).filter(pl.col(FINDING).is_in(ids.implode())).drop_nulls()
    )
    states = {finding: State(state) for finding, state in lasting.iter_rows()}
    for finding in set(ids) - states.keys():
        life = logbook.life(finding).filter(pl.col("run") <= end.number)
        if life.height:
            states[finding] = State(life["state"][-1])
    return states


def _older_by(logbook: Logbook, start: RunLine, end: RunLine) -> timedelta:
    """By how much the evidence of the later run is older, if it is: an earlier snapshot judged once more."""
    before, after = logbook.record(start).snapshot, logbook.record(end).snapshot
    if before is None or after is None:
        return timedelta()
    return max(before.read_at - after.read_at, timedelta())


def _chosen(runs: Sequence[RunLine], options: argparse.Namespace, estate: Estate) -> tuple[RunLine, RunLine]:
    judged = [line for line in runs if line.judged]
    end = chosen_run(runs, options.end, estate.clock)
    if options.start:
        start = judged_run(run_called(runs, options.start, estate.clock))
    else:
        before = [line for line in judged if line.number < end.number]
        if not before:
            hint = "keymallet judge writes the next; keymallet findings lists what is open"
            raise fail(f"run {end.number} is the first: there is nothing before it", hint=hint)
        start = before[-1]
    if start.number >= end.number:
        raise fail(
            f"run {start.number} is not before run {end.number}", hint="--from names the earlier of the two"
        )
    return start, end


def _newly_late(logbook: Logbook, start: RunLine, end: RunLine) -> pl.DataFrame:
    """The findings of the later run that are past their due date now, and were not at the earlier one."""
    late = logbook.findings(end).filter(pl.col("due") < end.judged_at)
    before = logbook.findings(start, (FINDING, "due", "state"))
    was_late = before.filter(pl.col("due") < start.judged_at).select(FINDING)
    # What was not seen has no due date; it was late all the same, if it was due by then.
    unseen = before.filter(pl.col("state") == State.NOT_SEEN).select(FINDING)
    long_due = (
        late.filter(pl.col("due") < start.judged_at).join(unseen, on=FINDING, how="semi").select(FINDING)
    )
    known = pl.concat([was_late, long_due])
    return late.join(known, on=FINDING, how="anti", maintain_order="left").sort("due", maintain_order=True)


def _moves(estate: Estate, logbook: Logbook, start: RunLine, end: RunLine) -> Moves | None:
    """Who came, went or has another name; None where the snapshots are not there any more."""
    snapshots = []
    for line in (start, end):
        wanted = logbook.record(line).snapshot
        assert wanted is not None, "a run that came to verdicts judged a snapshot"
        found = snapshot_of_run(estate.snapshots, wanted)
        if found is None:
            return None
        snapshots.append(found)
    asked = {ACCOUNT.name: {"stable-id"}, PERSON.name: {"person", "name"}}
    before, after = (snapshot.evidence(asked) for snapshot in snapshots)
    whole = wholeness(snapshots[1], estate.retired, snapshots[0])
    sources = before.tables[ACCOUNT.name]["source"].cast(pl.String).drop_nulls().unique().to_list()
    open_ones = {name for name in sources if not whole.is_retired(name) and not whole.has_all(name)}
    return moves_between(before, after, open_ones)


def _rows(changes: pl.DataFrame) -> pl.DataFrame:
    told = pl.col("changed").list.eval(
        pl.format(
            "{}: {} → {}",
            pl.element().struct.field("what"),
            pl.element().struct.field("was").fill_null("-"),
            pl.element().struct.field("is").fill_null("-"),
        )
    )
    wanted = (FINDING, "rule", "severity", "account", "subject", "unit", "answerer", "was", "state", "cause")
    return changes.select(*wanted, told.alias("changed"), "first-seen", "times-back")


def _head(estate: Estate, start: RunLine, end: RunLine) -> dict[str, object]:
    return {
        "organisation": estate.organisation,
        "from": {"run": start.number, "judged-at": start.judged_at, "head": start.head},
        "to": {"run": end.number, "judged-at": end.judged_at, "head": end.head},
        "states": end.states,
    }


def _code(fail_on: str, changes: pl.DataFrame, end: RunLine) -> int:
    worse = changes.filter(pl.col("state").is_in([str(state) for state in _WORSE]))
    if fail_on != "never":
        grave = [word for word, severity in SEVERITIES.items() if severity >= SEVERITIES[fail_on]]
        if worse["severity"].is_in(grave).any():
            return BREACH
    return INCOMPLETE if end.states.get(State.NOT_SEEN) else CLEAN
