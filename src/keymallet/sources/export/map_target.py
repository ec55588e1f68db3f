"""What a map says of the system that a batch of planned accounts is for, checked."""

from __future__ import annotations

import re

import polars as pl

from keymallet.core.base.nearest import did_you_mean
from keymallet.core.base.toml_text import Path, TomlDocument
from keymallet.core.facts.declaration import ACCOUNT
from keymallet.core.facts.model import Kind
from keymallet.core.vetting.target import Gives, Target
from keymallet.sources.export.map_shapes import TargetText


def target_of(written: TargetText, document: TomlDocument) -> Target:
    """The target, with every mistake in its section noted in the document."""
    for place, name in enumerate(written.required):
        _fact(document, ("target", "required", place), name)
    for name, longest in written.longest.items():
        _fact(document, ("target", "longest", name), name, Kind.TEXT)
        if longest < 1:
            document.fault(("target", "longest", name), "a fact has at least 1 character")
    for name, pattern in written.characters.items():
        _fact(document, ("target", "characters", name), name, Kind.TEXT)
        _pattern(document, ("target", "characters", name), pattern)
    if written.name_pattern:
        _pattern(document, ("target", "name-pattern"), written.name_pattern)
    if written.ordered_by:
        _fact(document, ("target", "ordered-by"), written.ordered_by, Kind.TEXT)
    gives = tuple(
        Gives(each.units, each.kinds, each.titles, each.groups, each.entitlements, each.more)
        for each in written.gives
    )
    for place, each in enumerate(gives):
        if each.groups is None and each.entitlements is None:
            hint = 'groups = ["staff"], or entitlements = [] for none'
            document.fault(("target", "gives", place), "it says neither groups nor entitlements", hint)
    return Target(
        written.source,
        written.required,
        written.name_pattern,
        written.longest,
        written.characters,
        written.ordered_by,
        gives,
    )


def _fact(document: TomlDocument, path: Path, name: str, kind: Kind | None = None) -> None:
    names = [column.name for column in ACCOUNT.columns if not column.across and kind in (None, column.kind)]
    if name not in names:
        hint = did_you_mean(name, names) or '"keymallet dictionary account" lists them'
        what = "text of an account" if kind else "fact of an account that a file can give"
        document.fault(path, f'there is no {what} called "{name}"', hint)


def _pattern(document: TomlDocument, path: Path, pattern: str) -> None:
    try:
        re.compile(pattern)
        pl.Series(["x"]).str.contains(pattern)
    except (re.error, pl.exceptions.PolarsError) as error:
        fault = f"this is no regular expression: {str(error).splitlines()[0]}"
        document.fault(path, fault, "like '[a-z][.][a-z]+'")
