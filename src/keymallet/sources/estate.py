"""The estate file: the organisation, its clock, its sources, its rulebook."""

from __future__ import annotations

import os
import re
from collections.abc import Collection, Iterable, Iterator
from dataclasses import dataclass
from datetime import datetime, timedelta
from fnmatch import fnmatchcase
from pathlib import Path as FilePath
from typing import Any
from zoneinfo import ZoneInfo

import msgspec

from keymallet.core.base.nearest import did_you_mean
from keymallet.core.base.toml_text import Path, TomlDocument
from keymallet.core.explaining.unlocking import Unlock
from keymallet.core.facts.declaration import ACCOUNT, words_of
from keymallet.core.facts.gaps import GAPS
from keymallet.core.facts.shards import MOST_SHARDS
from keymallet.core.history.answers import Answers
from keymallet.core.language.clocks import AN_INSTANT, instant_of, is_zone
from keymallet.core.language.literals import parse_span
from keymallet.core.linking.declared import (
    MATCHED_FACTS,
    PERSON_KEYS,
    TWIN_KEYS,
    Federation,
    MatchRule,
    SourcePair,
)
from keymallet.core.linking.linked import LinkingRules
from keymallet.sources.estate_runs import AnswersText, LogbookPlace, logbook_place, who_answers
from keymallet.sources.estate_servers import (
    EventsPlace,
    EventsText,
    LogPlace,
    MailPlace,
    MailText,
    SyslogText,
    events_place,
    log_place,
    mail_place,
)
from keymallet.sources.request import config_text
from keymallet.sources.rulebooks import book_of
from keymallet.sources.sections import READERS, KindWord, Reader, SourceSection

_SOURCE_NAME = re.compile(r"[a-z0-9]+(?:-[a-z0-9]+)*")


class TieText(msgspec.Struct, rename="kebab", frozen=True):
    """One way to tell whose an account is, as it stands in the file."""

    account: str = "name"
    like: str = "*"
    person: str = ""
    login_in: str = ""
    sources: tuple[str, ...] = ("*",)
    kinds: tuple[KindWord, ...] = ("person", "guest")


class PairText(msgspec.Struct, rename="kebab", frozen=True):
    """Two sources that must agree, as they stand in the file."""

    sources: tuple[str, ...]
    by: str = "name"
    kinds: tuple[KindWord, ...] = ()
    facts: tuple[str, ...] = ()
    ignore_case: bool = False


class FederationText(msgspec.Struct, rename="kebab", frozen=True):
    """A source whose accounts another one proves, as it stands in the file."""

    source: str
    proven_by: str
    by: str = "name"
    ignore_case: bool = False


class AcceptText(msgspec.Struct, rename="kebab", frozen=True):
    """One gap in the evidence that is accepted, as it stands in the file."""

    gap: str
    reason: str
    until: Any
    about: str = "*"


class PreferText(msgspec.Struct, rename="kebab", frozen=True):
    """Which of two rules that contradict each other holds, as it stands in the file."""

    rule: str
    over: str
    reason: str


class UnlockText(msgspec.Struct, rename="kebab", frozen=True):
    """Who may unlock which accounts, as it stands in the file."""

    by: str
    who: str = ""
    causes: tuple[str, ...] = ()
    say: str = ""


class EstateText(msgspec.Struct, rename="kebab", frozen=True):
    """The estate file as it stands; each source's section is read by the shape of its reader."""

    organisation: str
    clock: str
    rulebook: str | tuple[str, ...]
    source: dict[str, Any]
    snapshots: str = "snapshots"
    shards: int | None = None
    register: str = ""
    identity: str = ""
    largest_drop: int = 20
    accept: tuple[AcceptText, ...] = ()
    tie: tuple[TieText, ...] = ()
    pair: tuple[PairText, ...] = ()
    federation: tuple[FederationText, ...] = ()
    prefer: tuple[PreferText, ...] = ()
    unlocks: tuple[UnlockText, ...] = ()
    logbook: str = ""
    logbook_files: str = ""
    logbook_password_from: str = ""
    logbook_sign_with: str = ""
    answers: tuple[AnswersText, ...] = ()
    retired: tuple[str, ...] = ()
    mail: MailText | None = None
    syslog: SyslogText | None = None
    events: EventsText | None = None


@dataclass(frozen=True)
class Source:
    """One source of the estate: how it is read, how long that may take, how old it may get."""

    name: str
    section: SourceSection
    reader: Reader
    stale_after: timedelta | None
    within: timedelta = timedelta(hours=1)


@dataclass(frozen=True, slots=True)
class Accepted:
    """A gap in the evidence that is accepted until an instant: what kind, about what (a pattern), and why."""

    gap: str
    about: str
    reason: str
    until: datetime


@dataclass(frozen=True, slots=True)
class Preferred:
    """Of two rules that contradict each other, the one that holds, the one that does not, and why."""

    rule: str
    over: str
    reason: str


@dataclass(frozen=True)
class Estate:
    """A checked estate file. Paths in it are taken from `folder`, the folder it is in.

    `identity` is what its snapshots know it by. `largest_drop` is by how many of a hundred accounts a source
    may shrink without being asked about. `retired` are patterns of sources that exist no longer. `shards` is
    into how many a snapshot is divided; None leaves that to the number of accounts.
    """

    file: FilePath
    identity: str
    organisation: str
    clock: ZoneInfo
    rulebooks: tuple[FilePath, ...]
    snapshots: FilePath
    sources: tuple[Source, ...]
    largest_drop: int
    linking: LinkingRules
    register: FilePath | None = None
    accepted: tuple[Accepted, ...] = ()
    preferred: tuple[Preferred, ...] = ()
    unlocks: tuple[Unlock, ...] = ()
    logbook: LogbookPlace | None = None
    answers: tuple[Answers, ...] = ()
    retired: tuple[str, ...] = ()
    has_own_identity: bool = False
    shards: int | None = None
    mail: MailPlace | None = None
    log_server: LogPlace | None = None
    events: EventsPlace | None = None

    @property
    def folder(self) -> FilePath:
        """The folder the estate file is in."""
        return self.file.parent

    def chosen(self, names: Collection[str]) -> list[Source]:
        """The sources of these names, in the estate's order; with no names, all."""
        return [source for source in self.sources if not names or source.name in names]


def read_estate(file: FilePath) -> Estate:
    """Read and check an estate file. Raises KeymalletError with every problem in it."""
    shown = str(file)
    document = TomlDocument(config_text(file, shown), shown)
    written = document.read(EstateText, document.data)
    clock = document.data.get("clock")
    if isinstance(clock, str) and not is_zone(clock):
        document.fault(("clock",), f'"{clock}" is no time zone', 'like "Europe/Zurich", "UTC"')
    sections = document.data.get("source", {})
    sources = (
        [_source(document, name, data) for name, data in sections.items()]
        if isinstance(sections, dict)
        else []
    )
    if not sources and not document.problems:
        document.fault(
            ("source",), "no source is named", 'add [source.some-name] with read = "csv" or "host"'
        )
    for source in filter(None, sources):
        persons = source.section.persons
        if persons and persons not in sections:
            hint = did_you_mean(persons, sections) or f"there are: {', '.join(sections)}"
            document.fault(("source", source.name, "persons"), f'there is no source "{persons}"', hint)
    ties = _ties(document, written, sections) if written else ()
    pairs = _pairs(document, written, sections) if written else ()
    federations = _federations(document, written, sections) if written else ()
    accepted = _accepted(document, written) if written else ()
    unlocks = _unlocks(document, written) if written else ()
    answers = who_answers(document, written.answers, sections) if written else ()
    logbook = logbook_place(document, file.parent)
    mail = mail_place(document, written.mail, file.parent) if written else None
    events = events_place(document, written.events) if written else None
    log_server = log_place(document, written.syslog, file.parent) if written else None
    if written is not None:
        _check_books(document, written)
        if written.shards is not None and not 1 <= written.shards <= MOST_SHARDS:
            document.fault(("shards",), f"{written.shards} is no number of shards", f"1 to {MOST_SHARDS:,}")
    document.raise_problems()
    assert written is not None
    folder = file.parent
    snapshots = folder / written.snapshots
    return Estate(
        file,
        # Where none is given: the way from its snapshots to its file, which stays when both are moved.
        written.identity or FilePath(os.path.relpath(file, snapshots)).as_posix(),
        written.organisation,
        ZoneInfo(written.clock),
        tuple(book_of(folder, name) for name in _named_books(written)),
        snapshots,
        tuple(source for source in sources if source),
        written.largest_drop,
        LinkingRules(
            ZoneInfo(written.clock),
            (*ties, *_same_login(source for source in sources if source)),
            pairs,
            federations,
        ),
        folder / written.register if written.register else None,
        accepted,
        tuple(Preferred(each.rule, each.over, each.reason.strip()) for each in written.prefer),
        unlocks,
        logbook,
        answers,
        written.retired,
        bool(written.identity),
        written.shards,
        mail,
        log_server,
        events,
    )


def _named_books(written: EstateText) -> tuple[str, ...]:
    return (written.rulebook,) if isinstance(written.rulebook, str) else written.rulebook


def _check_books(document: TomlDocument, written: EstateText) -> None:
    """At least one rulebook, none twice; and a reason for each choice between two rules."""
    names = _named_books(written)
    if not names:
        document.fault(("rulebook",), "no rulebook is named", 'rulebook = "base", or a file beside this one')
    for place, name in enumerate(names):
        if name in names[:place]:
            document.fault(("rulebook", place), f'"{name}" is named twice')
    for number, each in enumerate(written.prefer):
        if not each.reason.strip():
            document.fault(("prefer", number, "reason"), "a choice between two rules needs a reason")


def _accepted(document: TomlDocument, written: EstateText) -> tuple[Accepted, ...]:
    accepted = []
    clock = ZoneInfo(written.clock) if is_zone(written.clock) else ZoneInfo("UTC")
    for number, entry in enumerate(written.accept):
        path: Path = ("accept", number)
        _one_of(document, (*path, "gap"), entry.gap, GAPS)
        if not entry.reason.strip():
            document.fault((*path, "reason"), "what is accepted needs a reason")
        until = instant_of(entry.until, clock)
        if until is None:
            document.fault((*path, "until"), "this is no date", AN_INSTANT)
            continue
        accepted.append(Accepted(entry.gap, entry.about, entry.reason.strip(), until))
    return tuple(accepted)


def _unlocks(document: TomlDocument, written: EstateText) -> tuple[Unlock, ...]:
    for number, each in enumerate(written.unlocks):
        for place, cause in enumerate(each.causes):
            _one_of(document, ("unlocks", number, "causes", place), cause, words_of(ACCOUNT, "lock-cause"))
        if not each.by.strip():
            document.fault(("unlocks", number, "by"), "it has to say who may unlock", 'by = "service desk"')
    return tuple(
        Unlock(
            each.who, each.causes, each.by.strip(), each.say.strip(), f"{document.name}: [[unlocks]] {number}"
        )
        for number, each in enumerate(written.unlocks, 1)
    )


def _same_login(sources: Iterable[Source]) -> Iterator[MatchRule]:
    """The ties that sources declare by `persons`: the same login there is the same person."""
    for source in sources:
        teller = source.section.persons
        if teller:
            yield MatchRule(login_in=teller, sources=(source.name,))


def _ties(document: TomlDocument, written: EstateText, sections: dict[str, Any]) -> tuple[MatchRule, ...]:
    ties = []
    for number, tie in enumerate(written.tie):
        path: Path = ("tie", number)
        _one_of(document, (*path, "account"), tie.account, MATCHED_FACTS)
        if bool(tie.person) == bool(tie.login_in):
            hint = 'person = "mail", or login-in = "some-source"'
            document.fault(path, "say either person or login-in", hint)
        elif tie.person:
            _one_of(document, (*path, "person"), tie.person, PERSON_KEYS)
        else:
            _one_of(document, (*path, "login-in"), tie.login_in, sections)
        if tie.like.count("*") != 1:
            hint = '"adm-*": the * stands for what is held against the person'
            document.fault((*path, "like"), "the pattern needs a single *", hint)
        known = [
            name for pattern in tie.sources for name in sections if fnmatchcase(name, pattern.split("/")[0])
        ]
        if not known:
            hint = f"there are: {', '.join(sections)}"
            document.fault((*path, "sources"), "no source is called like that", hint)
        ties.append(MatchRule(tie.account, tie.like, tie.person, tie.login_in, tie.sources, tie.kinds))
    return tuple(ties)


def _pairs(document: TomlDocument, written: EstateText, sections: dict[str, Any]) -> tuple[SourcePair, ...]:
    pairs = []
    comparable = [
        column.name
        for column in ACCOUNT.columns
        if not column.across and not column.definition and column.name not in ("account", "source")
    ]
    for number, pair in enumerate(written.pair):
        path: Path = ("pair", number)
        for place, name in enumerate(pair.sources):
            _one_of(document, (*path, "sources", place), name, sections)
        if len(set(pair.sources)) != 2 or len(pair.sources) != 2:
            document.fault((*path, "sources"), "a pair is of two sources", 'sources = ["directory", "cloud"]')
            continue
        _one_of(document, (*path, "by"), pair.by, TWIN_KEYS)
        for place, name in enumerate(pair.facts):
            _one_of(document, (*path, "facts", place), name, comparable)
        sources = (pair.sources[0], pair.sources[1])
        pairs.append(SourcePair(sources, pair.by, pair.kinds, pair.facts, pair.ignore_case))
    return tuple(pairs)


def _federations(
    document: TomlDocument, written: EstateText, sections: dict[str, Any]
) -> tuple[Federation, ...]:
    federations = []
    for number, each in enumerate(written.federation):
        path: Path = ("federation", number)
        _one_of(document, (*path, "source"), each.source, sections)
        _one_of(document, (*path, "proven-by"), each.proven_by, sections)
        _one_of(document, (*path, "by"), each.by, TWIN_KEYS)
        if each.source == each.proven_by:
            document.fault((*path, "proven-by"), "a source cannot prove its own accounts", "name another one")
        federations.append(Federation(each.source, each.proven_by, each.by, each.ignore_case))
    return tuple(federations)


def _one_of(document: TomlDocument, path: Path, word: str, words: Collection[str]) -> None:
    """Note a word that is none of those it can be."""
    if word not in words:
        hint = did_you_mean(word, words) or f"there are: {', '.join(words)}"
        document.fault(path, f'"{word}" is none of what it can be', hint)


def _source(document: TomlDocument, name: str, data: Any) -> Source | None:
    path = ("source", name)
    if not _SOURCE_NAME.fullmatch(name):
        document.fault(
            path, f'"{name}" cannot name a source', "small letters, digits and single hyphens: hr-export"
        )
    word = data.get("read") if isinstance(data, dict) else None
    if word not in READERS:
        given = f'nothing is known of read = "{word}"' if word is not None else '"read" is missing'
        hint = did_you_mean(str(word), READERS) or f"there are: {', '.join(READERS)}"
        document.fault((*path, "read") if word is not None else path, given, hint)
        return None
    reader = READERS[word]
    section = document.read(reader.section, data, path)
    spans = {key: _span(document, path, data, key) for key in ("stale-after", "within")}
    if section is None:
        return None
    return Source(name, section, reader, spans["stale-after"], spans["within"] or timedelta(hours=1))


def _span(document: TomlDocument, path: tuple[str, ...], data: dict[str, Any], key: str) -> timedelta | None:
    """A length of time of a source's section; None where it is not set."""
    written = data.get(key)
    if not isinstance(written, str):
        return None
    span = parse_span(written)
    if span is None:
        document.fault((*path, key), f'"{written}" is no length of time', "like 36h or 7d")
    return span
