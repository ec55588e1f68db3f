"""Which judging is a trial, and what becomes of a run that fails."""

from __future__ import annotations

import argparse
from collections.abc import Iterator
from contextlib import contextmanager

from keymallet.core.base.problems import KeymalletError, in_one_line

_MOST_PROBLEMS = 3


def is_trial(options: argparse.Namespace) -> bool:
    """Whether a judging is a trial: of another instant, evidence, rulebook or register, if not said."""
    if options.record is not None:
        return not options.record
    return any((options.at, options.snapshot, options.rulebook, options.register))


@contextmanager
def failure_recorded(estate_file: str, *, trial: bool) -> Iterator[None]:
    """Write down in the estate's logbook that a run failed within, and why; a trial leaves no trace."""
    try:
        yield
    except BaseException as error:
        if not trial and not isinstance(error, BrokenPipeError):
            from keymallet.commands.recording import record_failure

            record_failure(estate_file, _why(error))
        raise


def _why(error: BaseException) -> str:
    if isinstance(error, KeymalletError):
        return "; ".join(in_one_line(problem) for problem in error.problems[:_MOST_PROBLEMS])
    return "it was interrupted" if isinstance(error, KeyboardInterrupt) else "a fault of the program"
