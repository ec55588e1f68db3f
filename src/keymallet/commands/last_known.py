"""What the estate's logbook knows by its last run, for commands that ask of something else."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import suppress
from dataclasses import dataclass

import polars as pl

from keymallet.commands.logbooks import open_logbook
from keymallet.core.base.problems import KeymalletError
from keymallet.sources.estate import Estate
from keymallet.store.logbook.records import RunLine


@dataclass(frozen=True)
class LastKnown:
    """The findings of the last run, and which run that is."""

    findings: pl.DataFrame
    run: RunLine


def last_known(estate: Estate | None, columns: Sequence[str]) -> LastKnown | None:
    """These columns of what the last run found; None where there is no logbook, or it cannot be read."""
    if estate is None or estate.logbook is None:
        return None
    # What is asked for can be told without a history.
    with suppress(KeymalletError):
        logbook = open_logbook(estate)
        if last := logbook.last():
            return LastKnown(logbook.findings(last, columns), last)
    return None
