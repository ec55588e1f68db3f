"""Note that what an emergency exemption covers was used: when, by whom, and why."""

from __future__ import annotations

import argparse

import polars as pl

from keymallet.commands.exit_codes import CLEAN
from keymallet.commands.register_edit import Opened, open_to_edit
from keymallet.core.base.listing import how_many
from keymallet.core.base.problems import KeymalletError, Problem, fail
from keymallet.core.judging.exemptions import matching
from keymallet.core.judging.register_edit import EMERGENCY, with_use
from keymallet.core.linking.filler_reasons import is_filler
from keymallet.core.rulebook.register import Use, read_register
from keymallet.views.terminal import moment


def run(options: argparse.Namespace) -> int:
    """Enter the use. Raises KeymalletError where it explains nothing, or cannot have been."""
    with open_to_edit(options) as opened:
        return _used(options, opened)


def _used(options: argparse.Namespace, opened: Opened) -> int:
    entry, inputs = opened.entry(options.entry), opened.inputs
    if entry.kind != EMERGENCY:
        said = f"{entry.id} is of kind {entry.kind}: only the use of an emergency account is explained"
        raise fail(said, hint="whether it is still right is said by keymallet exempt review")
    at = opened.day(options.on) or inputs.at.replace(microsecond=0)
    until = opened.day(options.until)
    problems = []
    if at > inputs.at:
        problems.append(Problem("a use that is still to come cannot be explained", hint="--on, when it was"))
    if until is not None and until <= at:
        problems.append(Problem("it ends before it begins", hint="--until, when the use was over"))
    if is_filler(pl.Series([options.reason])).item():
        hint = "a sentence for somebody who was not there: four words at least"
        problems.append(Problem(f'"{options.reason}" is no reason', hint=hint))
    if not options.by.strip():
        problems.append(Problem("it has to say who used it", hint="--by WHO"))
    if problems:
        raise KeymalletError(problems)
    text = with_use(
        opened.text, entry.id, at, until, options.by.strip(), options.reason.strip(), inputs.clock
    )
    written = read_register(text, str(opened.path), inputs.clock)
    use = next(each for each in written.exemptions if each.id == entry.id).used[-1]
    opened.save(text)
    print(f"the use of {entry.id} on {moment(at, inputs.clock)} is noted in {opened.path}")
    print(_explained(opened, entry.accounts, use))
    return CLEAN


def _explained(opened: Opened, patterns: tuple[str, ...], use: Use) -> str:
    """Which sign-ins on record the use explains."""
    clock = opened.inputs.clock
    span = f"from {moment(use.start, clock)} until {moment(use.end, clock)}"
    tables = opened.inputs.snapshot.evidence({"sign-in": {"account", "at"}}).tables
    if "sign-in" not in tables:
        return f"it explains sign-ins {span}; no source reports any"
    rows = tables["sign-in"]
    mine = rows.filter(
        matching(rows["account"].fill_null(""), patterns),
        pl.col("at").is_between(use.start, use.end, closed="left"),
    )
    return f"it explains {how_many(mine.height, 'sign-in')} on record, {span}"
