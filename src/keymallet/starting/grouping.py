"""Exports that belong together: accounts and what their other rows are joined to, people, hosts, entries."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, field
from fnmatch import fnmatchcase

import polars as pl

from keymallet.core.facts.declaration import EXEMPTION
from keymallet.fitting.guess import Guess
from keymallet.fitting.matching import Match, Part
from keymallet.fitting.vocabulary import plain
from keymallet.starting.listings import listings
from keymallet.starting.survey import ARCHIVE, EXPORT, HOSTS, LDIF, LISTING, Found

KEYS = ("name", "stable-id", "mail")
"""Facts of an account that rows of other tables can name it by."""
_LEAST_JOINED = 0.5
_SAME_ACCOUNTS = 0.8
_LEAST_TIED = 0.3
_MOST_SHOWN = 3
_AS_OLD = 60.0
"""Seconds within which two files are as old as each other: they were copied together."""


@dataclass
class Join:
    """How the rows of a table name their accounts: by which fact, and those that find nobody.

    `folded`: only without regard to case.
    """

    file: str
    table: str
    by: str
    column: str
    source: str
    share: float
    strangers: list[str] = field(default_factory=list)
    missing: int = 0
    folded: bool = False


@dataclass
class Planned:
    """A source that the estate will have.

    `files` are the tables of an export and the files of each. `archives` are unpacked into `folder`, each
    as the host that it is given. Of listings, `listed` files are one pattern. `persons` is the source where
    the same login is the same person. `alike` are guesses of files that the map reads as it does others.
    """

    name: str
    read: str
    guesses: list[Guess] = field(default_factory=list)
    files: dict[str, list[str]] = field(default_factory=dict)
    folder: str = ""
    hosts: list[str] = field(default_factory=list)
    alike: list[Guess] = field(default_factory=list)
    listed: int = 0
    archives: dict[str, str] = field(default_factory=dict)
    persons: str = ""
    kinds: dict[str, str] = field(default_factory=dict)
    tie_by_mail: bool = False
    absent_tables: list[str] = field(default_factory=list)

    @property
    def read_as(self) -> list[Guess]:
        """The guesses of all its files."""
        return [*self.guesses, *self.alike]

    @property
    def is_roster(self) -> bool:
        """Whether it tells of people, and has no accounts."""
        return "person" in self.files

    @property
    def account_part(self) -> Part | None:
        """What fills its accounts, where it is an export of some."""
        return next(
            (part for each in self.guesses for part in each.parts if part.table.name == "account"), None
        )


@dataclass
class Plan:
    """All sources, how exports hang together, and what was left out with why.

    `homeless` are tables of a system as such, like its settings, that do not say of which.
    """

    sources: list[Planned] = field(default_factory=list)
    joins: list[Join] = field(default_factory=list)
    homeless: dict[str, Guess] = field(default_factory=dict)
    left_out: dict[str, str] = field(default_factory=dict)


def plan(found: Sequence[Found]) -> Plan:
    """Put what was found together into sources; what finds no place is left out, with why."""
    made = Plan()
    together = listings(found)
    for pattern, (guess, files) in together.items():
        guess.export.file = pattern
        name = _free_name(made, pattern.partition("/")[0])
        others = [each for each in found if each.path not in files and fnmatchcase(each.path, pattern)]
        listed = Planned(name, "csv", [guess], {"account": files if others else [pattern]}, listed=len(files))
        made.sources.append(listed)
    listed_files = {file for _, files in together.values() for file in files}
    why = "a list of names without a header: of what?"
    single = {each.path: why for each in found if each.kind == LISTING}
    made.left_out |= {path: why for path, why in single.items() if path not in listed_files}
    found = [each for each in found if each.path not in listed_files]
    exports = [(each, each.guess) for each in found if each.kind == EXPORT and each.guess]
    register = [each.path for each, guess in exports if _tables(guess) == {EXEMPTION.name}]
    why = "a list of exemptions: once there is an estate, keymallet exempt import enters it into the register"
    made.left_out |= dict.fromkeys(register, why)
    exports = [(each, guess) for each, guess in exports if each.path not in register]
    # The newest first: of two exports of the same it is the one to use.
    exports.sort(
        key=lambda pair: (-round(pair[0].changed / _AS_OLD), -pair[1].export.sample.rows, pair[0].path)
    )
    main = [(each, guess) for each, guess in exports if _tables(guess) & set(TABLE_KEYS)]
    for each, guess in main:
        _add_main(made, each.path, guess)
    made.sources.sort(key=lambda source: (source.is_roster, source.name))
    for each, guess in exports:
        if not _tables(guess) & set(TABLE_KEYS):
            _add_rows(made, each.path, guess)
    hosts = [each for each in found if each.kind in (HOSTS, ARCHIVE)]
    if hosts:
        _add_hosts(made, hosts)
    ldif = [each.path for each in found if each.kind == LDIF]
    if ldif:
        name = _free_name(made, ldif[0])
        made.sources.append(Planned(name, "ldif", files={"": ldif}))
    _add_ties(made)
    return made


def _add_main(made: Plan, path: str, guess: Guess) -> None:
    """A source of its own; more of a system that is there already, or the same thing once more."""
    table = "account" if any(part.table.name == "account" for part in guess.parts) else "person"
    keys = _values(guess, table, TABLE_KEYS[table])
    headers = _headers(guess)
    for source in made.sources:
        if table not in source.files or source.read != guess.export.format:
            continue
        known = pl.concat([_values(each, table, TABLE_KEYS[table]) for each in source.read_as]).unique()
        again = _share(keys, known)
        alike = _headers(source.guesses[0]) == headers
        if again >= _SAME_ACCOUNTS and alike:
            newer = f"{source.files[table][0]}, which is newer or has more of them"
            made.left_out[path] = f"the same {counted_as(table)} as {newer}"
            return
        if alike and again == 0:
            source.files[table].append(path)
            source.alike.append(guess)
            return
    source = Planned(_free_name(made, path), guess.export.format, [guess])
    for part in guess.parts:
        source.files.setdefault(part.table.name, []).append(path)
    made.sources.append(source)


TABLE_KEYS = {"account": "name", "person": "person"}


def _headers(guess: Guess) -> set[str]:
    return {column.header for column in guess.export.sample.columns}


def _tables(guess: Guess) -> set[str]:
    return {part.table.name for part in guess.parts}


def counted_as(table: str) -> str:
    """Several rows of a table, in a word."""
    return "people" if table == "person" else f"{table}s"


def _add_rows(made: Plan, path: str, guess: Guess) -> None:
    """Rows of accounts go to the source whose accounts most of them name."""
    (part, *_) = guess.parts
    match = _match(part, "account")
    systems = [source for source in made.sources if source.account_part]
    if match is None:  # settings, requirements and the like belong to a system as such
        if len(systems) == 1:
            attach(systems[0], path, guess)
        elif systems:
            made.homeless[path] = guess
        else:
            made.left_out[path] = f"{counted_as(part.table.name)}: no system to put it with"
        return
    ways = [
        Join(
            path, part.table.name, key, match.column.header, source.name, _share(values, known), folded=folded
        )
        for folded in (False, True)
        for source in systems
        for key in KEYS
        if len(known := _of_all(source, key, folded=folded))
        for values in [_every(match).str.to_lowercase() if folded else _every(match)]
    ]
    best = max(ways, key=lambda join: join.share, default=None)
    if best is None or best.share < _LEAST_JOINED:
        nobody = f'"{match.column.header}" names accounts of no export here'
        if best is not None and best.share:
            nobody = f'only {best.share:.0%} of "{match.column.header}" are accounts of {best.source}'
        made.left_out[path] = f"{part.table.name}s: {nobody}"
        return
    source = next(source for source in systems if source.name == best.source)
    known = _of_all(source, best.by, folded=best.folded)
    values = _every(match)
    looked_up = values.str.to_lowercase() if best.folded else values
    strangers = values.filter(~looked_up.is_in(known.implode()))
    best.missing, best.strangers = len(strangers), strangers.head(_MOST_SHOWN).to_list()
    if best.by != "name":
        match.fit.options["by"] = best.by
    if best.folded:
        match.fit.options["ignore-case"] = True
    made.joins.append(best)
    attach(source, path, guess)


def attach(source: Planned, path: str, guess: Guess) -> None:
    """Let a file of rows be one of this source's."""
    table = guess.parts[0].table
    earlier = [each for each in source.guesses if each.export.file in source.files.get(table.name, [])]
    source.files.setdefault(table.name, []).append(path)
    if any(_headers(each) == _headers(guess) for each in earlier):
        source.alike.append(guess)
        return
    source.guesses.append(guess)
    if earlier:  # files of several shapes: the map tells them apart by their columns
        parts = [part for each in [*earlier, guess] for part in each.parts if part.table is table]
        for part in parts:
            part.if_columns = tuple(match.column.header for match in part.matches if part.uses(match))


def _add_hosts(made: Plan, found: Sequence[Found]) -> None:
    """Each folder of hosts is a source; archives are unpacked into one of their own."""
    sources = [
        (Planned(_free_name(made, each.path), "host", folder=each.path, hosts=each.hosts), each.logins)
        for each in found
        if each.kind == HOSTS
    ]
    archives = [each for each in found if each.kind == ARCHIVE]
    if archives:
        name = _free_name(made, "hosts")
        hosts = [host for each in archives for host in each.hosts]
        unpacked = Planned(name, "host", folder=f"{name}-unpacked", hosts=hosts)
        unpacked.archives = {each.path: each.hosts[0] for each in archives}
        sources.append((unpacked, [login for each in archives for login in each.logins]))
    for source, logins in sources:
        values = pl.Series("value", logins, dtype=pl.String)
        systems = [each for each in made.sources if each.account_part]
        likest = max(systems, key=lambda each: _share(values, _of_all(each, "name")), default=None)
        if likest and _share(values, _of_all(likest, "name")) >= _LEAST_TIED:
            source.persons = likest.name
        made.sources.append(source)


def _add_ties(made: Plan) -> None:
    """Whose accounts are: by mail where no number tells."""
    rosters = [source for source in made.sources if source.is_roster]
    mails = [_values(each, "person", "mail") for source in rosters for each in source.read_as]
    if not mails:
        return
    known = pl.concat(mails).str.to_lowercase()
    for source in made.sources:
        part = source.account_part
        if part is not None and _match(part, "person") is None:
            own = _of_all(source, "mail").str.to_lowercase()
            source.tie_by_mail = len(own) > 0 and _share(own, known) >= _LEAST_TIED


def _match(part: Part, fact: str) -> Match | None:
    return next((match for match in part.matches if match.fact.name == fact and part.uses(match)), None)


def _every(match: Match) -> pl.Series:
    """All distinct values of a column that was taken for a fact."""
    if match.column.every is not None:
        return match.column.every
    return pl.Series("value", list(match.column.values), dtype=pl.String)


def _values(guess: Guess, table: str, fact: str) -> pl.Series:
    found = [
        _every(match)
        for part in guess.parts
        if part.table.name == table and not part.rows
        for match in [_match(part, fact)]
        if match
    ]
    return found[0] if found else pl.Series("value", [], dtype=pl.String)


def _of_all(source: Planned, fact: str, *, folded: bool = False) -> pl.Series:
    """What the accounts of a source are known by; `folded`: in small letters."""
    values = pl.concat([_values(each, "account", fact) for each in source.read_as])
    return values.str.to_lowercase() if folded else values


def _share(values: pl.Series, known: pl.Series) -> float:
    """How many of the values are among the known ones."""
    return int(values.is_in(known.implode()).sum()) / len(values) if len(values) else 0.0


def _free_name(made: Plan, path: str) -> str:
    """A name for a source out of its file's: letters and figures, and none that is taken."""
    stem = path.rsplit("/", 1)[-1].split(".")[0]
    name = re.sub(r"[^a-z0-9]+", "-", plain(stem)).strip("-") or "accounts"
    taken = {source.name for source in made.sources}
    numbers = (f"{name}-{number}" for number in range(2, len(taken) + 3))
    return name if name not in taken else next(each for each in numbers if each not in taken)
