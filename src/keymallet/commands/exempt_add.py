"""Enter an exemption into the register, unless something about it must not be."""

from __future__ import annotations

import argparse
import re

from keymallet.commands.exit_codes import CLEAN
from keymallet.commands.opening import instant
from keymallet.commands.register_edit import Opened, open_to_edit, said_day, today
from keymallet.core.base.listing import how_many
from keymallet.core.base.nearest import did_you_mean
from keymallet.core.base.problems import KeymalletError, Problem
from keymallet.core.judging.register_edit import added, faults_of
from keymallet.core.language.literals import parse_span
from keymallet.core.rulebook.register import KINDS, Exemption

_ID = re.compile(r"[a-z0-9]+(?:-[a-z0-9]+)*")


def run(options: argparse.Namespace) -> int:
    """Check and enter it. Raises KeymalletError with every reason why it cannot be entered."""
    with open_to_edit(options) as opened:
        return _add(options, opened)


def _add(options: argparse.Namespace, opened: Opened) -> int:
    inputs = opened.inputs
    problems = []
    if not _ID.fullmatch(options.entry):
        hint = "small letters, digits and single hyphens: counter-tills"
        problems.append(Problem(f'"{options.entry}" cannot name an entry', hint=hint))
    if inputs.register and options.entry in {entry.id for entry in inputs.register.exemptions}:
        problems.append(
            Problem(f'there is an entry "{options.entry}" already', hint="keymallet exempt review")
        )
    if options.kind not in KINDS:
        hint = did_you_mean(options.kind, KINDS) or f"there are: {', '.join(KINDS)}"
        problems.append(Problem(f'--kind: "{options.kind}" is no kind of exemption', hint=hint))
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
    if not entry.rules and not entry.gates:
        problems.append(Problem("it names neither a rule nor a gate", hint="--rule PATTERN, --gate PATTERN"))
    problems += faults_of(entry, opened.accounts, [demand.id for demand in inputs.rulebook.rules], now)
    if problems:
        raise KeymalletError(problems)
    opened.save(added(opened.text, entry, inputs.clock, now.replace(microsecond=0)))
    until = f" until {said_day(entry.end, inputs.clock)}" if entry.end else ""
    print(
        f"{entry.id} is entered in {opened.path}: it covers {how_many(entry.matched or 0, 'account')}{until}"
    )
    print("keymallet judge   what it makes exempt")
    return CLEAN
