"""The ordered table of linking passes, and how they are run."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass

import polars as pl

from keymallet.core.facts.declaration import ACCOUNT, TABLES, WAY_IN
from keymallet.core.facts.reading import Reading
from keymallet.core.linking.allowed_hours import mark_hours
from keymallet.core.linking.answering import (
    ANSWERING,
    answering_found,
    answering_named,
    mark_answering,
)
from keymallet.core.linking.assembling import assemble
from keymallet.core.linking.awaited import mark_awaited
from keymallet.core.linking.between_shards import Telling
from keymallet.core.linking.elevation_spans import (
    counted_together,
    mark_elevation_spans,
    reasons_given,
)
from keymallet.core.linking.failures import count_locks
from keymallet.core.linking.federation import find_provers
from keymallet.core.linking.gates import mark_gates, named_by_any, named_by_gates
from keymallet.core.linking.linked import LinkedReadings, LinkingRules
from keymallet.core.linking.password_days import all_times, count_password_days, password_times
from keymallet.core.linking.people import (
    drop_repeated_people,
    managers_found,
    managers_named,
    number_managers,
    once_each,
)
from keymallet.core.linking.person_matching import match_persons
from keymallet.core.linking.reconciliation import any_of, reconcile, sides_without_key
from keymallet.core.linking.settings_as_meant import ZERO_IS_NONE, take_settings_as_meant
from keymallet.core.linking.shared_values import (
    devices_held,
    keys_held,
    mark_shared_devices,
    mark_shared_keys,
    mark_shared_passwords,
    passwords_held,
    tellings_of,
)
from keymallet.core.linking.ways_in import make_ways_in


@dataclass(frozen=True, slots=True)
class Pass:
    """One step of linking: a function from readings, tables and the estate's rules to readings and tables.

    `needs` and `makes` name columns as `table.column`. A pass reads no other column than those it needs
    (and those by which rows are linked), and changes no other than those it makes. Where a column that it
    needs is not supplied, what rests on it is not made. Where it rests on rows that may lie in other shards,
    `tellings` find out what has to be known of those, and `run` gets that as well (None: there is nothing).
    """

    run: Callable[..., LinkedReadings]
    needs: tuple[str, ...]
    makes: tuple[str, ...]
    tellings: tuple[Telling, ...] = ()

    @property
    def name(self) -> str:
        """Its name: that of its function."""
        return self.run.__name__

    def alone(self, linked: LinkedReadings, rules: LinkingRules) -> LinkedReadings:
        """The step on evidence that is all there is."""
        if not self.tellings:
            return self.run(linked, rules)
        known = None
        for telling in self.tellings:
            known = telling.of_all([telling.tell(linked, rules, known)])
            if known is None:
                break
        return self.run(linked, rules, known)


def _columns(table: str, names: str) -> tuple[str, ...]:
    return tuple(f"{table}.{name}" for name in names.split())


_HOLDER = _columns("account", "account name person stable-id")
"""By these it is told whether two accounts are one holder's."""
_COMPARABLE = tuple(
    f"{ACCOUNT.name}.{column.name}"
    for column in ACCOUNT.columns
    if not column.across and column.name != "source"
)
"""The facts in which an estate may ask two systems to agree."""

PASSES: tuple[Pass, ...] = (
    Pass(
        take_settings_as_meant,
        needs=(*(f"setting.{name}" for name in ZERO_IS_NONE), "setting.applies-to"),
        makes=(*(f"setting.{name}" for name in ZERO_IS_NONE), "setting.applies-to"),
    ),
    Pass(drop_repeated_people, needs=("person.person",), makes=("person.person",)),
    Pass(
        match_persons,
        needs=(
            *_columns("account", "person name mail display stable-id owner kind source"),
            *_columns("person", "person mail name"),
        ),
        makes=_columns("account", "person tied-by on-roster"),
    ),
    Pass(
        number_managers,
        needs=_columns("account", "manager person name stable-id source"),
        makes=("account.manager",),
        tellings=(Telling(managers_named, once_each), Telling(managers_found, pl.concat)),
    ),
    Pass(
        mark_answering,
        needs=(
            *_columns("account", "account name mail person owner manager"),
            *_columns("person", "person mail name status leaves"),
        ),
        makes=tuple(f"account.{fact}-{told}" for fact in ANSWERING for told in ("status", "leaves")),
        tellings=(Telling(answering_named, once_each), Telling(answering_found, once_each)),
    ),
    Pass(
        mark_awaited,
        needs=_columns("account", "last-sign-in created source"),
        makes=("account.awaited-since",),
    ),
    Pass(
        reconcile,
        needs=(*_COMPARABLE, "account.source"),
        makes=_columns("account", "twins no-twin-in twin-differs"),
        tellings=(Telling(sides_without_key, any_of),),
    ),
    Pass(
        mark_shared_keys,
        needs=("key.digest", *_HOLDER),
        makes=_columns("key", "shared-with shared-with-root"),
        tellings=tellings_of(keys_held),
    ),
    Pass(
        mark_shared_devices,
        needs=(*_columns("factor", "device label"), *_HOLDER),
        makes=("factor.shared-with",),
        tellings=tellings_of(devices_held),
    ),
    Pass(
        mark_shared_passwords,
        needs=("account.password-digest", *_HOLDER),
        makes=_columns("account", "password-shared-with password-digest"),
        tellings=tellings_of(passwords_held),
    ),
    Pass(
        count_password_days,
        needs=_columns("account", "password-changed source"),
        makes=("account.password-set-with",),
        tellings=(Telling(password_times, all_times),),
    ),
    Pass(
        find_provers,
        needs=(
            *_columns("account", "account name mail person stable-id source has-password password-empty"),
            *_columns("factor", "kind state"),
        ),
        makes=_columns("account", "federated proven-by proven-with"),
    ),
    Pass(
        mark_gates,
        needs=(
            *_columns("gate", "gate source state asks-for covers leaves-out applications"),
            *_columns("account", "source name kind groups enabled second-factor-enforced proven-by"),
        ),
        makes=(
            *_columns("account", "covered-by left-out-by watched-by second-factor-required"),
            *_columns("account", "phishing-resistant-required accepted-factors"),
            *_columns("gate", "asks-accounts leaves-out-accounts names-nobody"),
        ),
        tellings=(Telling(named_by_gates, named_by_any),),
    ),
    Pass(
        mark_elevation_spans,
        needs=(
            *_columns("elevation", "role reason approved-by starts ends closed outcome"),
            *_columns("account", "account name mail person"),
            *_columns("grant", "role mode starts ends"),
            "sign-in.at",
        ),
        makes=(
            *_columns("elevation", "lasted stretch opened-in-week approves-itself hollow-reason same-reason"),
            "elevation.entitled",
            "grant.last-opened",
            "sign-in.in-opening",
        ),
        tellings=(Telling(reasons_given, counted_together),),
    ),
    Pass(
        mark_hours,
        needs=("sign-in.at", "account.allowed-hours"),
        makes=("sign-in.outside-hours",),
    ),
    Pass(
        count_locks,
        needs=(
            *_columns("sign-in", "at outcome"),
            *_columns("setting", "source applies-to lock-after count-within"),
            *_columns("account", "source name kind groups"),
        ),
        makes=("account.locked-before",),
    ),
    Pass(
        make_ways_in,
        needs=(
            *_columns("account", "source has-password password-empty remote-password remote-key"),
            *_columns("account", "remote-together second-factor-required accepted-factors"),
            "account.second-factor-registered",
            *_columns("account", "account federated proven-by enabled starts ends password-lapses"),
            *_columns("account", "password-locked locked locked-until lock-stops"),
            *_columns("key", "key kind starts expires state algorithm digest scope"),
            *_columns("factor", "kind amr state exportable"),
        ),
        makes=tuple(f"way-in.{column.name}" for column in WAY_IN.columns if column.across),
    ),
)
"""All passes, in the order in which they run: whatever one needs, no later one makes."""


def passes_for(used: Mapping[str, Collection[str]]) -> tuple[Pass, ...]:
    """The passes without which these facts, by table, would not be what they are, in their order."""
    wanted = {f"{table}.{name}" for table, names in used.items() for name in names}
    # Of a table whose rows are worked out, the rows themselves are asked about.
    wanted |= {
        f"{name}.{column.name}" for name in used if TABLES[name].across for column in TABLES[name].columns
    }
    needed: list[Pass] = []
    for step in reversed(PASSES):
        if not wanted.isdisjoint(step.makes):
            wanted.update(step.needs)
            needed.insert(0, step)
    return tuple(needed)


def link(readings: Sequence[Reading], rules: LinkingRules) -> LinkedReadings:
    """Readings put side by side, with all that only shows then."""
    for reading in readings:
        reading.hold()
    linked = assemble(readings)
    for step in PASSES:
        linked = step.alone(linked, rules)
    return linked.remarked()
