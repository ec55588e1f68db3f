"""What the edits of the register share: finding its file, writing it back whole, saying what came of it."""

from __future__ import annotations

import argparse
from dataclasses import dataclass
from datetime import datetime
from functools import cached_property
from pathlib import Path
from zoneinfo import ZoneInfo

from polars import DataFrame

from keymallet.commands.exempt_list import NO_REGISTER
from keymallet.commands.judging_inputs import JudgingInputs, open_inputs
from keymallet.commands.opening import instant, open_estate
from keymallet.commands.writing import write_file
from keymallet.core.base.nearest import did_you_mean
from keymallet.core.base.problems import fail
from keymallet.core.judging.exemptions import matching
from keymallet.core.judging.register_facts import NEEDED
from keymallet.core.rulebook.register import Exemption, read_register
from keymallet.sources.request import read_file, utf8_text


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
        return self.inputs.evidence([], also=NEEDED).tables["account"]

    def covered(self, patterns: tuple[str, ...]) -> int:
        """How many accounts these patterns match today."""
        return int(matching(self.accounts["account"], patterns).sum())

    def save(self, text: str) -> None:
        """Write the register, once it has been read again without a fault."""
        read_register(text, str(self.path), self.inputs.clock)
        write_file(self.path, text.encode())


def open_to_edit(options: argparse.Namespace) -> Opened:
    """The register named, or the estate's; one that is not there yet is empty."""
    path = Path(options.register) if options.register else open_estate(options.estate).register
    if path is None:
        raise fail("the estate has no register", hint=NO_REGISTER)
    if not path.exists():
        return Opened(path, _HEAD, open_inputs(options, with_register=False))
    options.register = str(path)
    inputs = open_inputs(options)
    return Opened(path, utf8_text(read_file(path, str(path)), str(path)), inputs)


_HEAD = "# Who is left out of which rules, why, by whose leave, and until when.\n"


def today(inputs: JudgingInputs) -> datetime:
    """The day judged at, as the instant at which it begins."""
    return inputs.at.astimezone(inputs.clock).replace(hour=0, minute=0, second=0, microsecond=0)


def said_day(day: datetime, clock: ZoneInfo) -> str:
    """A day as it is said after an edit."""
    return f"{day.astimezone(clock):%Y-%m-%d %H:%M}".removesuffix(" 00:00")
