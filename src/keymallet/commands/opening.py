"""Opening the estate that the options of a command name, and reading the instant they ask for."""

from __future__ import annotations

from datetime import UTC, datetime
from pathlib import Path
from zoneinfo import ZoneInfo

from keymallet.core.base.problems import fail
from keymallet.core.language.clocks import AN_INSTANT, instant_in
from keymallet.sources.estate import Estate, read_estate


def instant(written: str | None, clock: ZoneInfo) -> datetime:
    """The instant asked for with --at, else now. A date without zone is in the estate's clock."""
    if written is None:
        return datetime.now(UTC)

    parsed = instant_in(written, clock)
    if parsed is None:
        raise fail(f'--at "{written}" is no instant', hint=AN_INSTANT)
    return parsed


def open_estate(file: str) -> Estate:
    """Read the estate file."""
    path = Path(file)
    if file == "estate.toml" and not path.exists():
        raise fail(
            "there is no estate file here",
            file=file,
            hint="name one with --estate, or see one: keymallet demo",
        )
    return read_estate(path)
