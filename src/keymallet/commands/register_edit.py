"""What the edits of the register share: finding its file, writing it back whole, saying what came of it."""

from __future__ import annotations

import argparse
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import datetime
from functools import cached_property
from pathlib import Path
from zoneinfo import ZoneInfo

from polars import DataFrame

from keymallet.commands.exempt_list import NO_REGISTER
from keymallet.commands.judging_inputs import JudgingInputs, open_inputs
from keymallet.commands.locking import alone_with
from keymallet.commands.opening import instant, open_estate
from keymallet.commands.writing import write_file
from keymallet.core.base.nearest import did_you_mean
from keymallet.core.base.problems import fail
from keymallet.core.facts.declaration import ACCOUNT
from keymallet.core.judging.exemptions import matching
from keymallet.core.judging.register_facts import NEEDED
from keymallet.core.rulebook.register import Exemption, read_register
from keymallet.sources.request import config_text


@dataclass(frozen=True)
class Opened:
    """The register's file and text, and the inputs it is held against."""

    path: Path
    text: str
    inputs: JudgingInputs

    def entry(self, name: str) -> Exemption:
        """The entry of that id. Raises KeymalletError if there is none."""
        known = {entry.id: entry for entry in self.inputs.register.exemptions} if self.inputs.register else {}
        if name not in known:
            hint = did_you_mean(name, known) or f"there are: {', '.join(known)}"
            raise fail(f'the register has no entry "{name}"', hint=hint)
        return known[name]

    def day(self, written: str | None) -> datetime | None:
        """A day or instant given on the command line; None if none is."""
        return None if written is None else instant(written, self.inputs.clock)

    @cached_property
    def accounts(self) -> DataFrame:
        """All accounts, with the facts by which it is told whom an entry covers and who approves it."""
        return self.inputs.evidence([], {ACCOUNT.name: NEEDED}).tables["account"]

    def covered(self, patterns: tuple[str, ...]) -> int:
        """How many accounts these patterns match today."""
        return int(matching(self.accounts["account"], patterns).sum())

    def save(self, text: str) -> None:
        """Write the register, once it has been read again without a fault.

        Raises KeymalletError if somebody else has changed it since it was opened: nothing is written then.
        """
        read_register(text, str(self.path), self.inputs.clock)
        if _text_of(self.path) != self.text:
            raise fail(
                "the register was changed by somebody else meanwhile", file=str(self.path), hint=_AGAIN
            )
        write_file(self.path, text.encode())


@contextmanager
def open_to_edit(options: argparse.Namespace) -> Iterator[Opened]:
    """The register named, or the estate's; one that is not there yet is empty. Edits come one at a time."""
    path = Path(options.register) if options.register else open_estate(options.estate).register
    if path is None:
        raise fail("the estate has no register", hint=NO_REGISTER)
    busy, cannot = "somebody else is editing the register", "the register cannot be edited"
    with alone_with(path, patience=_PATIENCE, busy=busy, hint=_AGAIN, cannot=cannot):
        yield _opened(path, options)


_PATIENCE = 60
"""Seconds for which an edit waits for another one."""
_AGAIN = "look at it, then try again"


def _text_of(path: Path) -> str:
    """The register as it stands in the file; of one that is not there, how one begins."""
    return config_text(path, str(path)) if path.exists() else _HEAD


def _opened(path: Path, options: argparse.Namespace) -> Opened:
    if not path.exists():
        return Opened(path, _HEAD, open_inputs(options, with_register=False))
    options.register = str(path)
    inputs = open_inputs(options)
    return Opened(path, _text_of(path), inputs)


_HEAD = "# Who is left out of which rules, why, approved by whom, and until when.\n"


def today(inputs: JudgingInputs) -> datetime:
    """The day judged at, as the instant at which it begins."""
    return inputs.at.astimezone(inputs.clock).replace(hour=0, minute=0, second=0, microsecond=0)


def said_day(day: datetime, clock: ZoneInfo) -> str:
    """A day as it is said after an edit."""
    return f"{day.astimezone(clock):%Y-%m-%d %H:%M}".removesuffix(" 00:00")
