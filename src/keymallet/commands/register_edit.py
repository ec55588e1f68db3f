"""What the edits of the register share: finding its file, writing it back whole, saying what came of it."""

from __future__ import annotations

import argparse
from dataclasses import dataclass
from datetime import datetime
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING
from zoneinfo import ZoneInfo

from keymallet.commands.common import JudgingInputs, instant, open_case, open_estate, write_file

if TYPE_CHECKING:
    from polars import DataFrame

    from keymallet.core.rulebook.register import Exemption


@dataclass(frozen=True)
class Opened:
    """The register's file and text, and the case it is held against."""

    path: Path
    text: str
    case: JudgingInputs

    def entry(self, name: str) -> Exemption:
        """The entry of that id. Raises KeymalletError if there is none."""
        from keymallet.core.base.nearest import did_you_mean
        from keymallet.core.base.problems import fail

        known = {entry.id: entry for entry in self.case.register.exemptions} if self.case.register else {}
        if name not in known:
            hint = did_you_mean(name, known) or f"there are: {', '.join(known)}"
            raise fail(f'the register has no entry "{name}"', hint=hint)
        return known[name]

    def day(self, written: str | None) -> datetime | None:
        """A day or instant given on the command line; None if none is."""
        return None if written is None else instant(written, self.case.clock)

    @cached_property
    def accounts(self) -> DataFrame:
        """All accounts, with the facts by which it is told whom an entry covers and who approves it."""
        from keymallet.core.judging.register_facts import NEEDED

        return self.case.evidence([], also=NEEDED).tables["account"]

    def covered(self, patterns: tuple[str, ...]) -> int:
        """How many accounts these patterns match today."""
        from keymallet.core.judging.exemptions import matching

        return int(matching(self.accounts["account"], patterns).sum())

    def save(self, text: str) -> None:
        """Write the register, once it has been read again without a fault."""
        from keymallet.core.rulebook.register import read_register

        read_register(text, str(self.path), self.case.clock)
        write_file(self.path, text.encode())


def open_to_edit(options: argparse.Namespace) -> Opened:
    """The register named, or the estate's; one that is not there yet is empty."""
    from keymallet.commands.exempt_list import NO_REGISTER
    from keymallet.core.base.problems import fail
    from keymallet.sources.request import read_file, utf8_text

    path = Path(options.register) if options.register else open_estate(options.estate).register
    if path is None:
        raise fail("the estate has no register", hint=NO_REGISTER)
    if not path.exists():
        return Opened(path, _HEAD, open_case(options, with_register=False))
    options.register = str(path)
    case = open_case(options)
    return Opened(path, utf8_text(read_file(path, str(path)), str(path)), case)


_HEAD = "# Who is left out of which rules, why, by whose leave, and until when.\n"


def today(case: JudgingInputs) -> datetime:
    """The day judged at, as the instant at which it begins."""
    return case.at.astimezone(case.clock).replace(hour=0, minute=0, second=0, microsecond=0)


def said_day(day: datetime, clock: ZoneInfo) -> str:
    """A day as it is said after an edit."""
    return f"{day.astimezone(clock):%Y-%m-%d %H:%M}".removesuffix(" 00:00")
