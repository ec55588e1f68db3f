"""Enter a list of exemptions that was kept elsewhere: all of it, or nothing where something is wrong."""

from __future__ import annotations

import argparse
import re
from collections.abc import Iterator
from dataclasses import replace
from datetime import datetime

import polars as pl

from keymallet.commands.exempt_entry import entry_faults
from keymallet.commands.exit_codes import CLEAN
from keymallet.commands.opening import instant
from keymallet.commands.register_edit import Opened, open_to_edit
from keymallet.core.base.listing import how_many, some_names
from keymallet.core.base.problems import KeymalletError, fail
from keymallet.core.judging.register_edit import added
from keymallet.sources.register_list import ListedEntry, read_register_list


def run(options: argparse.Namespace) -> int:
    """Check the whole list and enter it. Raises KeymalletError with every fault, each with its line."""
    with open_to_edit(options) as opened:
        return _import(options, opened)


def _import(options: argparse.Namespace, opened: Opened) -> int:
    inputs = opened.inputs
    now = instant(options.at, inputs.clock).replace(microsecond=0)
    listed = read_register_list(options.file, options.map, inputs.clock, now)
    if not listed:
        raise fail("the list has no rows", file=options.file)
    over = [each for each in listed if each.entry.end is not None and each.entry.end <= now]
    wanted = list(_as_entries([each for each in listed if each not in over], opened, now))
    problems = []
    taken: set[str] = set()
    for each in wanted:
        faults = entry_faults(each.entry, opened, now, taken)
        problems += [replace(fault, place=each.place) for fault in faults]
        taken.add(each.entry.id)
    if problems:
        raise KeymalletError(problems)
    text = added(opened.text, [each.entry for each in wanted], inputs.clock, now)
    if not options.dry_run:
        opened.save(text)
    covered = opened.covered(tuple(pattern for each in wanted for pattern in each.entry.accounts))
    done = "would be entered" if options.dry_run else "entered"
    entries = how_many(len(wanted), "entry", "entries")
    print(f"{entries} {done} in {opened.path}, for {how_many(covered, 'account')}")
    if over:
        print(f"left out: {how_many(len(over), 'entry', 'entries')} that ended before now, {_named(over)}")
    print("keymallet exempt list   what holds, what to correct")
    return CLEAN


def _named(listed: list[ListedEntry]) -> str:
    return some_names([each.entry.id for each in listed])


def _as_entries(listed: list[ListedEntry], opened: Opened, now: datetime) -> Iterator[ListedEntry]:
    """As they are to stand in the register: named as it asks, for accounts as it names them."""
    for each in listed:
        entry = each.entry
        accounts = tuple(name for pattern in entry.accounts for name in _meant(pattern, opened))
        yield replace(
            each,
            entry=replace(
                entry,
                id=re.sub(r"[^a-z0-9]+", "-", entry.id.lower()).strip("-"),
                accounts=accounts,
                start=entry.start or now,
                matched=opened.covered(accounts) if entry.matched is None else entry.matched,
            ),
        )


def _meant(pattern: str, opened: Opened) -> list[str]:
    """A pattern as it stands; a mail address becomes the accounts that have it."""
    accounts = opened.accounts
    if "@" not in pattern or "mail" not in accounts.columns:
        return [pattern]
    mine = accounts.filter(pl.col("mail").str.to_lowercase() == pattern.lower())["account"].to_list()
    return mine or [pattern]
