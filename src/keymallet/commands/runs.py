"""Which run of a logbook is meant: by its number, by the beginning of its head, or by a day."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import timedelta
from zoneinfo import ZoneInfo

from keymallet.core.base.problems import KeymalletError, fail
from keymallet.core.language.clocks import instant_in
from keymallet.store.logbook.records import RunLine

_LEAST_OF_HEAD = 6
_ONE_DAY = timedelta(days=1)
_NEAREST = 3


def run_called(runs: Sequence[RunLine], wanted: str, clock: ZoneInfo) -> RunLine:
    """The run that is meant. Of a day it is the last that came to verdicts on it or before it.

    Raises KeymalletError with the nearest ones where there is none.
    """
    if wanted.isdecimal() and len(wanted) < _LEAST_OF_HEAD:
        found = [run for run in runs if run.number == int(wanted)]
    elif len(wanted) >= _LEAST_OF_HEAD and set(wanted) <= set("0123456789abcdef"):
        found = [run for run in runs if run.head.startswith(wanted)]
    else:
        day = instant_in(wanted, clock)
        if day is None:
            raise fail(
                f'"{wanted}" is no run',
                hint="name its number, the beginning of its head, or a day: 2026-11-24",
            )
        end = day + _ONE_DAY if len(wanted) <= len("2026-11-24") else day
        until = [run for run in runs if run.judged and run.judged_at <= end]
        found = until[-1:]
    if len(found) != 1:
        raise _no_run(runs, wanted, clock, several=len(found) > 1)
    return found[0]


def last_judged(runs: Sequence[RunLine]) -> RunLine:
    """The last run that came to verdicts. Raises KeymalletError if there is none."""
    found = next((run for run in reversed(runs) if run.judged), None)
    if found is None:
        raise fail("there is no run in the logbook yet", hint="keymallet judge writes the first")
    return found


def chosen_run(runs: Sequence[RunLine], wanted: str | None, clock: ZoneInfo) -> RunLine:
    """The run that is meant, or the last one; it came to verdicts. Raises KeymalletError otherwise."""
    return judged_run(run_called(runs, wanted, clock)) if wanted else last_judged(runs)


def judged_run(run: RunLine) -> RunLine:
    """The run, if it came to verdicts. Raises KeymalletError otherwise."""
    if not run.judged:
        raise fail(f"run {run.number} came to no verdicts: {run.failed}", hint="keymallet logbook list")
    return run


def _no_run(runs: Sequence[RunLine], wanted: str, clock: ZoneInfo, *, several: bool) -> KeymalletError:
    if not runs:
        return fail("there is no run in the logbook yet", hint="keymallet judge writes the first")
    if several:
        return fail(f'several runs begin with "{wanted}"', hint="give more of the head, or the number")
    if wanted.isdecimal():
        nearest = sorted(runs, key=lambda run: (abs(run.number - int(wanted)), run.number))
    else:
        nearest = list(runs)
    named = sorted(nearest[:_NEAREST], key=lambda run: run.number)
    told = ", ".join(f"{run.number} ({run.judged_at.astimezone(clock):%Y-%m-%d})" for run in named)
    return fail(f'there is no run "{wanted}"', hint=f"the nearest are {told}; keymallet logbook list has all")
