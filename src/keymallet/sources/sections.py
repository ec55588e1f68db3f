"""The shapes of a source's section in the estate file, one for each reader.

They stand apart from the readers so that an estate can be checked without loading any of them.
"""

from __future__ import annotations

from typing import Literal

import msgspec


class CsvSection(msgspec.Struct, rename="kebab", frozen=True):
    """The source's section of the estate file."""

    read: str
    map: str
    files: dict[str, str | list[str]]
    stale_after: str = ""


class HostSection(msgspec.Struct, rename="kebab", frozen=True):
    """The source's section of the estate file.

    `pam` is the release whose ageing rule holds: they differ on the very day; else it follows from the
    host's release file. `kinds` says by patterns of the login name what an account is; the first that
    fits counts. `persons` names the source whose account of the same login name tells the person.
    """

    read: str
    folder: str
    pam: Literal["1.5", "1.7"] | None = None
    kinds: dict[str, Literal["person", "guest", "service", "shared", "system", "emergency"]] = {}
    persons: str = ""
    stale_after: str = ""


READERS: dict[str, tuple[type[msgspec.Struct], str]] = {
    "csv": (CsvSection, "keymallet.sources.csv_export"),
    "host": (HostSection, "keymallet.sources.host"),
}
"""`read = "…"` of a source: the shape of its section, and the module whose `read` reads it."""
