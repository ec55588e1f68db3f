"""The runs of a logbook, and one of them in full, on the terminal."""

from __future__ import annotations

from collections.abc import Sequence
from zoneinfo import ZoneInfo

from rich.console import Console
from rich.padding import Padding
from rich.text import Text

from keymallet.core.base.listing import and_more, how_many
from keymallet.core.history.states import State
from keymallet.store.logbook.records import RunLine, RunRecord
from keymallet.store.logbook.verifying import Mismatch
from keymallet.views.changes import in_breach
from keymallet.views.history import PAST_DUE, SHORT, STATE_STYLES
from keymallet.views.plain_table import PlainTable
from keymallet.views.terminal import moment, plain_grid, text

_COUNTED = (State.NEW, State.BACK, State.MENDED, State.NOT_SEEN)


def show_runs(out: Console, runs: Sequence[RunLine], most: int | None, clock: ZoneInfo) -> None:
    """Print a line for each run, the last first."""
    table = PlainTable()
    table.add_column("run", justify="right", no_wrap=True)
    table.add_column("judged at", no_wrap=True)
    table.add_column("code", justify="right", no_wrap=True)
    table.add_column("in breach", justify="right", no_wrap=True)
    for state in _COUNTED:
        table.add_column(str(state), justify="right", no_wrap=True)
    table.add_column("past due", justify="right", no_wrap=True)
    table.add_column("head", no_wrap=True)
    ordered = list(reversed(runs))
    shown = ordered if most is None else ordered[:most]
    for run in shown:
        if not run.judged:
            failed = [Text("failed", "yellow"), *[Text("")] * (len(_COUNTED) + 1)]
            table.add_row(
                str(run.number),
                moment(run.judged_at, clock),
                str(run.code),
                *failed,
                text(run.head[:SHORT], "dim"),
            )
            continue
        numbers = [(run.states.get(state, 0), STATE_STYLES[state]) for state in _COUNTED]
        numbers.append((run.states.get(PAST_DUE, 0), STATE_STYLES[State.LATE]))
        table.add_row(
            str(run.number),
            moment(run.judged_at, clock),
            str(run.code),
            f"{in_breach(run.states):,}",
            *(Text(f"{number:,}", style) if number else Text("·") for number, style in numbers),
            text(run.head[:SHORT], "dim"),
        )
    out.print(table)
    if len(ordered) > len(shown):
        out.print(text(f"{and_more(len(ordered) - len(shown))} (--rows 0)", "dim"))
    for run in shown:
        if not run.judged:
            out.print(
                Padding(text(f"run {run.number} failed: {run.failed}", "yellow"), (0, 0, 0, 2), expand=False)
            )


def show_run_record(out: Console, run: RunLine, record: RunRecord, there: bool, clock: ZoneInfo) -> None:
    """Print what a run rests on and how it came out; `there`: whether its snapshot still is."""
    out.print(text(f"run {run.number} of {record.organisation}", "bold"))
    out.print(text(f"head {run.head}", "dim"), soft_wrap=True)
    out.print()
    table = plain_grid(12, None)

    def say(name: str, value: str, style: str = "") -> None:
        if value:
            table.add_row(text(name, "dim"), text(value, style))

    say("judged at", f"{moment(record.judged_at, clock)} ({clock.key})")
    say(
        "run at",
        f"{moment(record.ran_at, clock)}, by {record.by} on {record.host}, keymallet {record.keymallet}",
    )
    say("follows", record.previous[:SHORT] or "nothing: it is the first")
    if not run.judged:
        say("failed", record.failed, "yellow")
    say("exit code", f"{record.code}" + (f" (--fail-on {record.fail_on})" if record.fail_on else ""))
    if record.rulebook is not None:
        book = record.rulebook
        say("rulebook", f"{book.title}{', edition ' + book.edition if book.edition else ''}")
        for kept in book.texts:
            say("", f"{kept.name}  sha256 {kept.sha256[:SHORT]}", "dim")
    if record.register is not None:
        say("register", f"{record.register.name}  sha256 {record.register.sha256[:SHORT]}")
    if record.snapshot is not None:
        snapshot = record.snapshot
        gone = "" if there else "; no longer there: verdicts cannot be judged again"
        say(
            "snapshot",
            f"{snapshot.folder}  blake3 {snapshot.blake3[:SHORT]}, "
            f"{how_many(snapshot.accounts, 'account')}{gone}",
            "" if there else "yellow",
        )
        for name, source in snapshot.sources.items():
            notes = [f"{how_many(source.refused, 'record')} refused"] if source.refused else []
            notes += [f"not read: {source.failed}"] if source.failed else []
            notes += source.incomplete
            say(
                "",
                f"{name}: read {moment(source.read_at, clock)}{', ' + ', '.join(notes) if notes else ''}",
                "dim",
            )
    if record.findings is not None:
        say("findings", f"{how_many(record.findings.rows, 'row')}, blake3 {record.findings.blake3[:SHORT]}")
    if record.transitions is not None:
        say("changes", how_many(record.transitions.rows, "change"))
    say("states", ", ".join(f"{number:,} {name}" for name, number in record.states.items()))
    say("gaps", "; ".join(str(gap.get("text", "")) for gap in record.gaps))
    out.print(table)


def show_verified(out: Console, runs: Sequence[RunLine], found: Sequence[Mismatch], *, signed: bool) -> None:
    """Print what is not as it was written, or that all is; with `signed`, signatures were looked at."""
    if not found:
        said = f"all {how_many(len(runs), 'run')} are as they were written"
        out.print(text(said + (", and signed by this key" if signed else ""), "green"))
        if runs:
            out.print(text(f"head {runs[-1].head}", "dim"), soft_wrap=True)
        pruned = sum(run.pruned for run in runs)
        if pruned:
            out.print(text(f"of {how_many(pruned, 'run')} the findings are no longer kept", "dim"))
        if not signed and any(run.signature for run in runs):
            out.print(text("signatures were not looked at: --key names the public key", "yellow"))
        return
    out.print(text(f"{how_many(len(found), 'thing')} not as written", "bold red"))
    for each in found:
        where = f"run {each.run}: " if each.run else ""
        out.print(Padding(text(f"{where}{each.text}"), (0, 0, 0, 2), expand=False))
