"""Settings as they are meant: a zero where it stands for "none" is none."""

from __future__ import annotations

import polars as pl

from keymallet.core.facts.declaration import SETTING
from keymallet.core.linking.linked import LinkedReadings, LinkingRules

ZERO_IS_NONE = (
    *("lock-after", "lock-for", "count-within", "max-age"),
    *("idle-limit", "session-limit", "elevation-limit"),
)
"""Locks after no failure: never. Locks for no time: until somebody unlocks. Lasts for no time: for ever."""


def take_settings_as_meant(linked: LinkedReadings, rules: LinkingRules) -> LinkedReadings:
    """Turn zeros that stand for "none" into what they mean, whichever source gave them."""
    settings = linked.frame(SETTING)
    if settings is None:
        return linked
    there = [name for name in ZERO_IS_NONE if name in settings.columns]
    meant = (
        pl.when(pl.col(name).cast(pl.Int64, strict=False) != 0).then(pl.col(name)).alias(name)
        for name in there
    )
    return linked.with_frame(SETTING, settings.with_columns(meant))
