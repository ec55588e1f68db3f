"""Judge a sealed run again, without its estate, and say whether every verdict is the same."""

from __future__ import annotations

import argparse
import io
from pathlib import Path

import polars as pl

from keymallet import __version__
from keymallet.commands.exit_codes import BREACH, CLEAN
from keymallet.commands.rejudging import differing_rules, judged_as_kept
from keymallet.core.base.problems import fail
from keymallet.core.history.columns import FINDING
from keymallet.core.history.observed import observe
from keymallet.store.logbook.records import RunRecord
from keymallet.store.logbook.sealing import opened
from keymallet.views.sealed import Rejudged, show_rejudged
from keymallet.views.terminal import console


def run_sealed(options: argparse.Namespace) -> int:
    """Open, judge and compare; code 1 if any verdict differs.

    Raises KeymalletError if the file was altered, or sealed by another major version.
    """
    others = [f"--{name}" for name in ("at", "snapshot", "rulebook", "register") if getattr(options, name)]
    if others:
        raise fail(f"--sealed brings all of that along: leave out {', '.join(others)}")
    with opened(Path(options.sealed)) as sealed:
        _check_version(sealed.record, options.sealed)
        judgement = judged_as_kept(sealed.record, sealed.texts, sealed.snapshot)
        known = pl.read_parquet(io.BytesIO(sealed.findings))
        again = observe(judgement, known).frame.select(FINDING, "rule", "account", "verdict")
        before = known.drop_nulls("verdict").select(FINDING, "rule", "account", "verdict")
        both = before.join(again, on=FINDING, how="full", suffix="-again", coalesce=True)
        differing = both.filter(pl.col("verdict").ne_missing(pl.col("verdict-again")))
        other = differing_rules(sealed.record, judgement)
        out = console()
        show_rejudged(
            out, Rejudged(sealed.record, sealed.head, before.height, differing, other, sealed.pseudonyms_of)
        )
    return BREACH if differing.height or other else CLEAN


def _check_version(record: RunRecord, file: str) -> None:
    if record.keymallet.split(".")[0] != __version__.split(".")[0]:
        raise fail(
            f"it was judged by Keymallet {record.keymallet}, and this is {__version__}",
            file=file,
            hint="judge it by a version with the same first number",
        )
