"""What has to hold of an entry before it gets into the register, whoever brings it."""

from __future__ import annotations

import re
from collections.abc import Collection
from datetime import datetime

from keymallet.commands.register_edit import Opened
from keymallet.core.base.nearest import did_you_mean
from keymallet.core.base.problems import Problem
from keymallet.core.judging.register_edit import faults_of
from keymallet.core.rulebook.register import KINDS, Exemption

_ID = re.compile(r"[a-z0-9]+(?:-[a-z0-9]+)*")


def entry_faults(
    entry: Exemption, opened: Opened, now: datetime, taken: Collection[str] = ()
) -> list[Problem]:
    """Everything for which it cannot be entered; `taken` are ids besides those of the register."""
    problems = []
    register = opened.inputs.register
    known = {each.id for each in register.exemptions} if register else set()
    if not _ID.fullmatch(entry.id):
        hint = "small letters, digits and single hyphens: counter-tills"
        problems.append(Problem(f'"{entry.id}" cannot name an entry', hint=hint))
    if entry.id in known or entry.id in taken:
        problems.append(Problem(f'there is an entry "{entry.id}" already', hint="keymallet exempt review"))
    if entry.kind not in KINDS:
        hint = did_you_mean(entry.kind, KINDS) or f"there are: {', '.join(KINDS)}"
        problems.append(Problem(f'kind "{entry.kind}" is no kind of exemption', hint=hint))
    if not entry.accounts:
        problems.append(Problem("it names no account", hint="source/name, with * and ?"))
    if not entry.rules and not entry.gates:
        problems.append(Problem("it names neither a rule nor a gate", hint="--rule PATTERN, --gate PATTERN"))
    rules = [demand.id for demand in opened.inputs.rulebook.rules]
    return [*problems, *faults_of(entry, opened.accounts, rules, now)]
