"""Confirm that an exemption is still right; where it covers more than was approved, with a new approval."""

from __future__ import annotations

import argparse
from dataclasses import replace

from keymallet.commands.exit_codes import CLEAN
from keymallet.commands.register_edit import open_to_edit, said_day, today
from keymallet.core.base.listing import how_many
from keymallet.core.base.problems import KeymalletError, fail
from keymallet.core.judging.register_edit import changed, faults_of


def run(options: argparse.Namespace) -> int:
    """Enter today as the day of the review. Raises KeymalletError if it cannot be confirmed as it is."""
    opened = open_to_edit(options)
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
    text = changed(
        opened.text,
        entry.id,
        inputs.clock,
        until=opened.day(options.until),
        reviewed=now,
        approved_by=options.approved_by,
        matched=covers if options.approved_by else None,
        drilled=now if options.drilled else None,
    )
    opened.save(text)
    due = f", again by {said_day(now + entry.review_every, inputs.clock)}" if entry.review_every else ""
    print(f"{entry.id} is reviewed{due}: it covers {how_many(covers, 'account')}")
    return CLEAN
