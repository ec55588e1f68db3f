"""Evidence linked anew: as it is, and as it would be with changes laid over it."""

from __future__ import annotations

import polars as pl

from keymallet.commands.judging_inputs import JudgingInputs
from keymallet.core.base.problems import fail
from keymallet.core.base.source_names import is_of
from keymallet.core.facts.declaration import ACCOUNT, TABLES
from keymallet.core.facts.evidence import Evidence, account_names, in_full
from keymallet.core.linking.passes import link
from keymallet.sources.estate import Estate
from keymallet.store.carry import Earlier

_NOT_KEPT = "password-shared-with"
"""The fact that linking cannot make anew: the digests that tell who shares a password are in no snapshot."""
_SET_WITH = "password-set-with"


def relinked(inputs: JudgingInputs, changed: Evidence | None = None) -> Evidence:
    """What linking makes of the snapshot's evidence, or of the same with changes.

    Who shares a password is taken over from before. Raises KeymalletError where there is no estate file to
    say how sources belong together.
    """
    estate = inputs.estate
    if estate is None:
        raise fail("to try changes the estate file is needed", hint="name it with --estate")
    earlier = Earlier(inputs.snapshot, changed)
    readings = [each for name in _declared(estate, inputs) for each in earlier.readings_of(name)]
    linked = link(readings, estate.linking)
    tables = {name: in_full(TABLES[name], frame) for name, frame in linked.tables.items()}
    before = changed or inputs.snapshot.evidence({ACCOUNT.name: {_NOT_KEPT, "password-changed"}})
    known = before.tables[ACCOUNT.name].select("account", _NOT_KEPT, tried="password-changed")
    accounts = (
        tables[ACCOUNT.name].drop(_NOT_KEPT).join(known, on="account", how="left", maintain_order="left")
    )
    # That many passwords would be set in one instant is only how changes are tried.
    only_tried = (pl.col("tried") == inputs.at).fill_null(value=False) if changed else pl.lit(value=False)
    together = pl.when(only_tried).then(pl.lit(0, dtype=pl.Int64)).otherwise(_SET_WITH).alias(_SET_WITH)
    tables[ACCOUNT.name] = accounts.with_columns(together).drop("tried")
    for name, frame in tables.items():
        if TABLES[name].of_account:
            # By name too: so they can be taken apart into their sources again.
            tables[name] = frame.with_columns(account_names(tables[ACCOUNT.name], frame).alias("account"))
    supply = {each.source: each.supply for each in linked.readings}
    for name, told in before.supply.items():
        if name in supply:
            kept = {fact: where for fact, where in told.get(ACCOUNT.name, {}).items() if fact == _NOT_KEPT}
            supply[name] = {**supply[name], ACCOUNT.name: {**supply[name].get(ACCOUNT.name, {}), **kept}}
    read_at = {name: record.read_at for name, record in inputs.snapshot.manifest.sources.items()}
    return Evidence(tables, supply, {name: read_at[name] for name in supply})


def _declared(estate: Estate, inputs: JudgingInputs) -> list[str]:
    """The sources whose readings the snapshot holds, in their order."""
    declared = [source.name for source in estate.sources]
    held = inputs.snapshot.manifest.sources
    return [name for name in declared if any(is_of(each, name) for each in held)]
