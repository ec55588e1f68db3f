"""Enter an exemption into the register, unless something about it must not be."""

from __future__ import annotations

import argparse

from keymallet.commands.exempt_entry import entry_faults
from keymallet.commands.exit_codes import CLEAN
from keymallet.commands.opening import instant
from keymallet.commands.register_edit import Opened, open_to_edit, said_day, today
from keymallet.core.base.listing import how_many
from keymallet.core.base.problems import KeymalletError, Problem
from keymallet.core.judging.register_edit import added
from keymallet.core.language.literals import parse_span
from keymallet.core.rulebook.register import Exemption


def run(options: argparse.Namespace) -> int:
    """Check and enter it. Raises KeymalletError with every reason why it cannot be entered."""
    with open_to_edit(options) as opened:
        return _add(options, opened)


def _add(options: argparse.Namespace, opened: Opened) -> int:
    inputs = opened.inputs
    problems = []
    every = parse_span(options.review_every)
    if every is None:
        problems.append(
            Problem(f'--review-every: "{options.review_every}" is no length of time', hint='like "180d"')
        )
    now = instant(options.at, inputs.clock)
    entry = Exemption(
        id=options.entry,
        kind=options.kind,
        accounts=tuple(options.accounts),
        rules=tuple(options.rules),
        reason=options.reason.strip(),
        asked_by=options.asked_by.strip(),
        approved_by=options.approved_by.strip(),
        start=opened.day(options.start) or now.replace(microsecond=0),
        end=opened.day(options.until),
        reviewed=today(inputs),
        review_every=every,
        matched=opened.covered(tuple(options.accounts)),
        watch=tuple(options.watch),
        safeguards=options.safeguards.strip(),
        gates=tuple(options.gates),
    )
    problems += entry_faults(entry, opened, now)
    if problems:
        raise KeymalletError(problems)
    opened.save(added(opened.text, [entry], inputs.clock, now.replace(microsecond=0)))
    until = f" until {said_day(entry.end, inputs.clock)}" if entry.end else ""
    print(
        f"{entry.id} is entered in {opened.path}: it covers {how_many(entry.matched or 0, 'account')}{until}"
    )
    print("keymallet judge   what it makes exempt")
    return CLEAN
