"""Settings as they are meant: a zero that stands for "none" is none; what names nobody is for everyone."""

from __future__ import annotations

import polars as pl

from keymallet.core.facts.declaration import SETTING
from keymallet.core.facts.evidence import notes_unread
from keymallet.core.linking.linked import LinkedReadings, LinkingRules

ZERO_IS_NONE = (
    *("lock-after", "lock-for", "count-within", "max-age"),
    *("idle-limit", "session-limit", "elevation-limit"),
)
"""Locks after no failure: never. Locks for no time: until somebody unlocks. Lasts for no time: for ever."""

EVERYONE = "everyone"
"""In `applies-to`: all accounts of the source."""


def take_settings_as_meant(linked: LinkedReadings, rules: LinkingRules) -> LinkedReadings:
    """Turn zeros that stand for "none" into what they mean, and let what names nobody apply to all."""
    settings = linked.frame(SETTING)
    if settings is None:
        return linked
    there = [name for name in ZERO_IS_NONE if name in settings.columns]
    meant = (
        pl.when(pl.col(name).cast(pl.Int64, strict=False) != 0).then(pl.col(name)).alias(name)
        for name in there
    )
    settings = settings.with_columns(meant)
    if "applies-to" not in settings.columns:
        settings = settings.with_columns(pl.lit([EVERYONE]).alias("applies-to"))
    else:
        names_nobody = pl.col("applies-to").list.len().fill_null(0) == 0
        for_all = names_nobody & ~notes_unread(settings, "applies-to")
        named = pl.when(for_all).then(pl.lit([EVERYONE])).otherwise("applies-to")
        settings = settings.with_columns(named.alias("applies-to"))
    untold = set(linked.suppliers(SETTING)) - set(linked.suppliers(SETTING, "applies-to"))
    return linked.with_frame(SETTING, settings).supplying(
        untold, SETTING, {"applies-to": "everyone, since it names nobody"}
    )
