"""Gaps: what is not known of the evidence as a whole, so that nothing found is not the same as clean."""

from __future__ import annotations

from datetime import datetime

import msgspec

GAPS: dict[str, str] = {
    "not-read": "a source could not be read",
    "not-in-snapshot": "a source of the estate was never read into this snapshot",
    "cut-short": "a source stopped before it had given all it has",
    "referral": "a directory refers to another server for a part of it, and that was not asked",
    "refused": "records that could not be read",
    "unreadable": "cells that could not be understood, or tell of a time after the reading",
    "strays": "rows that name an account which is not there",
    "no-rows": "a file with a header and no row",
    "emptied": "a table or column that had values before and has none now",
    "shrunk": "a table that has less than half of the rows it had",
    "too-old": "a source was read longer ago than its stale-after allows",
    "read-later": "a source was read after the instant that is judged at",
    "failed-reading": "the last attempt to read the sources made no snapshot",
    "from-future": "a snapshot from after now was passed over",
    "nothing-to-judge": "rules for rows that no source supplies, or for a source that is not there",
    "unproven": "rules that could not be decided for some",
}
"""Each kind of gap, and what it means. An estate may accept one by its kind, and what it is about."""


class Gap(msgspec.Struct, rename="kebab", frozen=True):
    """One gap: its kind, the source, table or rule it is about, and in words what is not known."""

    gap: str
    about: str
    text: str


class AcceptedGap(Gap, rename="kebab", frozen=True):
    """A gap that the estate accepts: why, and until when."""

    reason: str
    until: datetime
