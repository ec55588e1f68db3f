"""Confirm that an exemption is still right; where it covers more than was approved, with a new approval."""

from __future__ import annotations

import argparse
from dataclasses import replace

from keymallet.commands.exit_codes import CLEAN
from keymallet.commands.register_edit import Opened, open_to_edit, said_day, today
from keymallet.core.base.listing import how_many
from keymallet.core.base.problems import KeymalletError, fail
from keymallet.core.judging.register_edit import faults_of, reviewed, with_term
from keymallet.core.rulebook.register import Term


def run(options: argparse.Namespace) -> int:
    """Enter today as the day of the review. Raises KeymalletError if it cannot be confirmed as it is."""
    with open_to_edit(options) as opened:
        return _review(options, opened)


def _review(options: argparse.Namespace, opened: Opened) -> int:
    inputs, entry = opened.inputs, opened.entry(options.entry)
    now = today(inputs)
    covers = opened.covered(entry.accounts)
    if (entry.matched is None or covers > entry.matched) and not options.approved_by:
        before = "an unknown number" if entry.matched is None else f"{entry.matched:,}"
        raise fail(
            f"{entry.id} covers {how_many(covers, 'account')}; approved were {before}",
            hint="have that approved too (--approved-by WHO), or name the accounts one by one",
        )
    renewed = replace(
        entry,
        end=opened.day(options.until) or entry.end,
        approved_by=(options.approved_by or entry.approved_by).strip(),
    )
    problems = faults_of(renewed, opened.accounts, [rule.id for rule in inputs.rulebook.rules], inputs.at)
    if problems:
        raise KeymalletError(problems)
    text = reviewed(opened.text, entry, inputs.clock, now, drilled=now if options.drilled else None)
    if options.until or options.approved_by:
        # What is decided now is a term of its own: what was judged by the one before is not judged anew.
        decided = inputs.at.replace(microsecond=0)
        matched = covers if options.approved_by else entry.matched
        term = Term(decided, renewed.end, entry.accounts, matched, renewed.approved_by, decided)
        text = with_term(text, entry.id, term, inputs.clock)
    opened.save(text)
    due = f", again by {said_day(now + entry.review_every, inputs.clock)}" if entry.review_every else ""
    print(f"{entry.id} is reviewed{due}: it covers {how_many(covers, 'account')}")
    return CLEAN
