"""Cases beside a rulebook: small accounts that must, or must not, be in breach; what tests a rule.

A case names a rule, gives the facts of an account (and of what belongs to it) and the verdict that is
expected. Facts it does not give are not supplied by any source, and so unknown; `none` is a fact that is
supplied and not there. Dates may be told from the instant judged at: `200d ago`, `in 3d`.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass, field, replace
from datetime import UTC, date, datetime
from typing import Any
from zoneinfo import ZoneInfo

import msgspec
import polars as pl

from keymallet.core.base.nearest import article, did_you_mean
from keymallet.core.base.toml_text import Path, TomlDocument
from keymallet.core.evaluating.context import columns_used
from keymallet.core.explaining.findings import EVERY_VERDICT, alike, describe
from keymallet.core.facts.declaration import ACCOUNT, GATE, PERSON, SETTING, TABLES, TOLD_TABLES
from keymallet.core.facts.evidence import (
    ACCOUNT_ROW,
    ORIGIN,
    PERSON_ROW,
    UNREAD,
    Evidence,
    data_type,
    source_column,
)
from keymallet.core.facts.model import Column, Derivation, Kind, Table
from keymallet.core.facts.reading import Reading
from keymallet.core.judging.judge import Judgement, judge
from keymallet.core.judging.verdicts import Verdict
from keymallet.core.language.clocks import AN_INSTANT, instant_in, is_zone
from keymallet.core.language.literals import parse_span
from keymallet.core.linking.linked import LinkedReadings, LinkingRules
from keymallet.core.linking.passes import PASSES, Pass, passes_for
from keymallet.core.linking.people import drop_repeated_people, number_managers
from keymallet.core.linking.person_matching import match_persons
from keymallet.core.linking.reconciliation import reconcile
from keymallet.core.rulebook.model import Demand, Rule, Rulebook

SOURCE = "case"
_RELATIVE = re.compile(r"(?:in (\S+)|(\S+) ago)")
_NONE, _UNKNOWN = "none", "unknown"
_IN_FORCE = (SETTING, GATE)
_USUAL_AT = "2026-01-01T00:00Z"


class _CaseText(msgspec.Struct, rename="kebab"):
    """A case as it stands in the file; the facts stand beside these, under the names of their tables."""

    rule: str
    expect: str
    name: str = ""
    at: str = ""
    because: str = ""
    missing: str = ""
    subject: int = 1


class _FileText(msgspec.Struct, rename="kebab"):
    at: str = _USUAL_AT
    clock: str = "UTC"
    case: list[Any] = []


@dataclass(frozen=True, slots=True)
class Case:
    """One case: what it is about, the evidence, and what is expected. `line` is where it stands."""

    rule: str
    name: str
    at: datetime
    clock: ZoneInfo
    evidence: Evidence
    expect: Verdict
    because: str
    missing: str
    subject: int
    line: int


@dataclass(frozen=True, slots=True)
class Outcome:
    """What became of a case: its verdict, why, and in words what is not as expected (empty: nothing)."""

    case: Case
    verdict: Verdict
    why: str
    wrong: str
    judgement: Judgement = field(repr=False)


def read_cases(text: str, name: str, rulebook: Rulebook) -> list[Case]:
    """Read cases. Raises KeymalletError with every fault, each with file, line and column."""
    document = TomlDocument(text, name)
    read = document.read(_FileText, document.data)
    cases: list[Case | None] = []
    if read is not None:
        clock = _clock(document, read.clock)
        at = _at(document, ("at",), read.at, clock)
        demands = {demand.id: demand for demand in rulebook.demands}
        for place, data in enumerate(read.case):
            cases.append(_Reader(document, ("case", place), demands, at, clock).read(data))
    document.raise_problems()
    return [case for case in cases if case is not None]


def _clock(document: TomlDocument, name: str) -> ZoneInfo:
    if not is_zone(name):
        document.fault(("clock",), f'there is no clock "{name}"', "an IANA zone, like Europe/Zurich")
        return ZoneInfo("UTC")
    return ZoneInfo(name)


def _at(document: TomlDocument, path: Path, text: str, clock: ZoneInfo) -> datetime:
    instant = instant_in(text, clock)
    if instant is None:
        document.fault(path, f'"{text}" is no instant', AN_INSTANT)
    return instant or datetime(2026, 1, 1, tzinfo=UTC)


@dataclass
class _Reader:
    """Reads one case of a file of cases, and notes every fault in it with its place."""

    document: TomlDocument
    path: Path
    demands: dict[str, Demand]
    at: datetime
    clock: ZoneInfo
    given: dict[str, Any] = field(default_factory=dict)
    written: frozenset[str] = frozenset()

    def read(self, data: Any) -> Case | None:
        """The case; None if anything in it is wrong (all of it is noted)."""
        if not isinstance(data, dict):
            self.document.fault(self.path, "a case is a table", "write [[case]]")
            return None
        before = len(self.document.problems)
        self.written = frozenset(data)
        given = self.given = {key: value for key, value in data.items() if key in TABLES}
        for name in given.keys() - TOLD_TABLES:
            said = f"{name} is always worked out: nothing can be given for it"
            self.document.fault((*self.path, name), said, "give the password, keys and factors it rests on")
        read = self.document.read(_CaseText, {k: v for k, v in data.items() if k not in given}, self.path)
        if read is None:
            return None
        if read.rule not in self.demands:
            hint = did_you_mean(read.rule, self.demands) or "see keymallet rules show"
            self.document.fault((*self.path, "rule"), f'the rulebook has no rule "{read.rule}"', hint)
        # A case has no register: nothing in it is exempt.
        words = {verdict.word: verdict for verdict in Verdict if verdict is not Verdict.EXEMPT}
        if read.expect not in words:
            hint = did_you_mean(read.expect, words) or f"there are: {', '.join(words)}"
            self.document.fault((*self.path, "expect"), f'"{read.expect}" is no verdict', hint)
        if read.at:
            self.at = _at(self.document, (*self.path, "at"), read.at, self.clock)
        evidence = self.evidence(given, self.demands.get(read.rule))
        self.check_subject(read)
        if len(self.document.problems) > before:
            return None
        line = self.document.place(self.path).line
        expect = words[read.expect]
        return Case(read.rule, read.name, self.at, self.clock, evidence, expect, read.because, read.missing,
                    read.subject - 1, line)  # fmt: skip

    def check_subject(self, read: _CaseText) -> None:
        """A case that asks for a row it does not have asks nothing."""
        demand = self.demands.get(read.rule)
        if demand is None:
            return
        rows = self.given.get(demand.table, [{}])
        number = len(rows) if isinstance(rows, list) else 1
        if not isinstance(demand, Rule):
            number = max(number, read.subject)
        if not 1 <= read.subject <= number:
            hint = f"it has {number}" if number else f"give it one: {demand.table} = {{ … }}"
            said = f"there is no {demand.table} {read.subject} in this case"
            self.document.fault((*self.path, "subject" if "subject" in self.written else "rule"), said, hint)

    def evidence(self, given: dict[str, Any], demand: Demand | None) -> Evidence:
        """The facts of the case as evidence of one source, or of those that the accounts name.

        Of what only shows when rows lie side by side, that is worked out which the rule rests on.
        """
        rows: dict[str, list[dict[str, Any]]] = {}
        for name, value in given.items():
            many = value if isinstance(value, list) else [value]
            path = (*self.path, name)
            rows[name] = [
                self.row(TABLES[name], item, (*path, place) if isinstance(value, list) else path)
                for place, item in enumerate(many)
            ]
        accounts = rows.setdefault(ACCOUNT.name, [])
        if not accounts and any(TABLES[name].of_account for name in rows):
            accounts.append({})
        return _evidence(rows, self.at, self.clock, PASSES if demand is None else _passes_of(demand))

    def row(self, table: Table, data: Any, path: Path) -> dict[str, Any]:
        """One row: known facts, those that are none, and to which row of its owner it belongs."""
        if not isinstance(data, dict):
            self.document.fault(path, f"the facts of a {table.name} are a table", '{ kind = "person" }')
            return {}
        row: dict[str, Any] = {}
        for name, value in data.items():
            column = table.column(name)
            if name == "of" and table.owner:
                row["of"] = self.place(table, value, (*path, name))
            elif column is None:
                hint = did_you_mean(name, table.names) or f"see keymallet dictionary {table.name}"
                self.document.fault(
                    (*path, name), f'there is no fact "{name}" of {article(table.name)}', hint
                )
            elif _is_only_worked_out(column):
                said = f"{name} is always worked out: nothing can be given for it"
                self.document.fault((*path, name), said, "give the facts it rests on")
            elif value == _UNKNOWN and column.kind is not Kind.TEXT:
                row[name] = None
                row.setdefault(UNREAD, []).append(name)
            else:
                row[name] = None if value == _NONE else self.value(column, value, (*path, name))
        return row

    def place(self, table: Table, value: Any, path: Path) -> int:
        """Which row of its owner a row belongs to, counted from 0; -1 for none of them."""
        owners = self.given.get(table.owner, [{}])
        number = len(owners) if isinstance(owners, list) else 1
        if isinstance(value, bool) or not isinstance(value, int) or not 0 <= value <= number:
            hint = (
                f"1 to {number}, or 0 for none"
                if number > 1
                else f"1 for the one {table.owner}, or 0 for none"
            )
            self.document.fault(path, f"there is no {table.owner} {_shown(value)} in this case", hint)
            return -1
        return value - 1

    def value(self, column: Column, value: Any, path: Path) -> Any:
        """A fact's value, read by its kind."""
        match column.kind:
            case Kind.FLAG if isinstance(value, bool):
                return value
            case Kind.COUNT if isinstance(value, int) and not isinstance(value, bool):
                return value
            case Kind.TEXT if isinstance(value, str):
                return value
            case Kind.WORD if isinstance(value, str) and value in column.words:
                return value
            case Kind.WORDS if isinstance(value, list) and all(isinstance(part, str) for part in value):
                return value
            case Kind.SPAN if isinstance(value, str) and parse_span(value) is not None:
                return parse_span(value)
            case Kind.INSTANT if isinstance(value, str | date):
                instant = self.instant(value if isinstance(value, str) else value.isoformat())
                if instant is not None:
                    return instant
        self.document.fault(path, f"{_shown(value)} is no value of {column.name}", _KINDS[column.kind].format(
            words=", ".join(column.words)))  # fmt: skip
        return None

    def instant(self, text: str) -> datetime | None:
        """`200d ago`, `in 3d`, `now`, or a date."""
        if text == "now":
            return self.at
        relative = _RELATIVE.fullmatch(text)
        if relative:
            span = parse_span(relative[1] or relative[2])
            return None if span is None else self.at + span if relative[1] else self.at - span
        return instant_in(text, self.clock)


def _is_only_worked_out(column: Column) -> bool:
    """Whether what a source says of a fact does not count at all: its definition does not even ask for it."""
    asks_for_it = re.search(rf"(?<![\w.-]){re.escape(column.name)}(?![\w-])", column.definition)
    return column.derivation is Derivation.ALWAYS and not asks_for_it


_KINDS = {
    Kind.FLAG: "true, false, or none",
    Kind.COUNT: "a whole number, or none",
    Kind.TEXT: "a text, or none",
    Kind.WORD: "one of: {words}; or none",
    Kind.WORDS: 'a list, like ["a", "b"], or none',
    Kind.SPAN: 'a length of time, like "90d", or none',
    Kind.INSTANT: 'like "200d ago", "in 3d", "now", "2026-11-24", or none',
}


def _shown(value: Any) -> str:
    return f'"{value}"' if isinstance(value, str) else str(value)


def _passes_of(demand: Demand) -> tuple[Pass, ...]:
    """The passes of linking that make what a rule, or the reason it gives, rests on."""
    used = columns_used((demand.table, expression) for expression in demand.expressions)
    for table, names in used.items():
        columns = [column for column in TABLES[table].columns if column.name in names]
        names.update(name for column in columns for name in column.beside)
    return passes_for(used)


def _evidence(
    rows: dict[str, list[dict[str, Any]]], at: datetime, clock: ZoneInfo, passes: tuple[Pass, ...]
) -> Evidence:
    accounts = rows[ACCOUNT.name]
    for number, row in enumerate(accounts):
        row["source"] = row.get("source") or SOURCE
        row["name"] = row.get("name") or f"account-{number + 1}"
        row["account"] = f"{row['source']}/{row['name']}"
    named = [row["source"] for mine in rows.values() for row in mine if row.get("source")]
    sources = list(dict.fromkeys([*named, SOURCE]))
    supply: dict[str, dict[str, dict[str, str]]] = {source: {} for source in sources}
    frames = {}
    for name, mine in rows.items():
        table = TABLES[name]
        origins = [_origin(table, row, accounts) for row in mine]
        supplied = {key for row in mine for key in row if key not in ("of", UNREAD)} | set(table.names[:1])
        for row, origin in zip(mine, origins, strict=True):
            # What other rows of the source give and this one does not is not known of it.
            others = {key for other, its in zip(mine, origins, strict=True) if its == origin for key in other}
            row[UNREAD] = sorted({*row.get(UNREAD, ()), *(others - row.keys() - {"of", UNREAD})})
        for source in sources:
            # An empty list says that the source has the table, and nothing in it.
            here = supplied if source in origins or not mine else set()
            supply[source][name] = dict.fromkeys(sorted(here), "the case")
        frames[name] = _frame(table, mine, origins, sources)
    for row in accounts:
        # Whatever any account gives is a fact of its own source.
        given = sorted(row.keys() - {"of", UNREAD})
        supply[row["source"]][ACCOUNT.name] |= dict.fromkeys(given, "the case")
    if PERSON.name in frames:
        places = pl.Series(PERSON_ROW, [_of(row, rows[PERSON.name]) for row in accounts], dtype=pl.UInt32)
        frames[ACCOUNT.name] = frames[ACCOUNT.name].with_columns(places)
        # Whose an account is, its source tells if it tells of any: else it may be anybody's.
        for row, place in zip(accounts, places, strict=True):
            if place is not None:
                supply[row["source"]][ACCOUNT.name].setdefault("person", "the case")
    return _worked_out(Evidence(frames, supply, dict.fromkeys(sources, at)), clock, passes)


def _worked_out(evidence: Evidence, clock: ZoneInfo, passes: tuple[Pass, ...]) -> Evidence:
    """The evidence with what only shows when rows lie side by side, as linking works it out.

    What the case gives itself stays as it is given.
    """
    given = evidence.tables
    # As a source gives them: without what no source can tell.
    bare = {name: frame.drop(_across(name)) for name, frame in given.items()}
    readings = [Reading(source, dict(bare), supply) for source, supply in evidence.supply.items()]
    linked = LinkedReadings(tuple(readings), bare)
    for step in passes:
        if step.run not in _NOT_IN_A_CASE:
            linked = step.alone(linked, LinkingRules(clock))
        # Later passes rest on what the case gives as well.
        linked = _as_given(linked, evidence, step.makes)
    tables = dict(linked.tables)
    for name, frame in given.items():
        missing = [column for column in _across(name) if column not in tables[name].columns]
        tables[name] = tables[name].with_columns(frame[column] for column in missing)
    supply = {reading.source: reading.supply for reading in linked.readings}
    return replace(evidence, tables=tables, supply=supply)


def _as_given(linked: LinkedReadings, evidence: Evidence, made: tuple[str, ...]) -> LinkedReadings:
    """With what the case itself gives of what a pass makes."""
    for name in made:
        table, _, column = name.partition(".")
        if column in _across(table) and _gives(evidence, table, column):
            frame = linked.tables[table].with_columns(evidence.tables[table][column])
            linked = linked.with_frame(TABLES[table], frame)
    return linked


_NOT_IN_A_CASE = (drop_repeated_people, match_persons, number_managers, reconcile)
"""Passes that tell whose an account is, and what two systems say of it: a case says that itself."""


def _across(table: str) -> list[str]:
    return [column.name for column in TABLES[table].columns if column.across]


def _gives(evidence: Evidence, table: str, column: str) -> bool:
    return any(column in supply.get(table, {}) for supply in evidence.supply.values())


def _origin(table: Table, row: dict[str, Any], accounts: list[dict[str, Any]]) -> str:
    if row.get("source"):
        return str(row["source"])
    if table.of_account and accounts:
        place = row.get("of", 0)
        return str(accounts[place]["source"]) if 0 <= place < len(accounts) else SOURCE
    # What is in force is so in the source that the case is about; people are on a roster of their own.
    return str(accounts[0]["source"]) if accounts and table in _IN_FORCE else SOURCE


def _of(row: dict[str, Any], owners: list[Any]) -> int | None:
    place = row.get("of", 0)
    return place if 0 <= place < len(owners) else None


def _frame(table: Table, rows: list[dict[str, Any]], origins: list[str], sources: list[str]) -> pl.DataFrame:
    schema: dict[str, Any] = {column.name: data_type(column) for column in table.columns}
    if "source" in table.names:
        rows = [{**row, "source": origin} for row, origin in zip(rows, origins, strict=True)]
    schema[UNREAD] = pl.List(pl.String)
    frame = pl.DataFrame([{name: row.get(name) for name in schema} for row in rows], schema=schema)
    named = pl.Series(source_column(table), origins, dtype=pl.Enum(sources))
    frame = frame.with_columns(named if source_column(table) == ORIGIN else named.alias("source"))
    if table.of_account:
        places = [row.get("of", 0) for row in rows]
        frame = frame.with_columns(
            pl.Series(ACCOUNT_ROW, [place if place >= 0 else None for place in places], dtype=pl.UInt32)
        )
    return frame


# trying


def try_case(case: Case, rulebook: Rulebook) -> Outcome:
    """Judge one case by its rule alone."""
    only = rulebook.only(lambda demand: demand.id == case.rule)
    judgement = judge(case.evidence, only, case.at, case.clock)
    codes = judgement.codes[case.rule]
    if not 0 <= case.subject < len(codes):
        nothing = f"there is no row {case.subject + 1} of the rule's table in this case"
        return Outcome(case, Verdict.OUT_OF_SCOPE, "", nothing, judgement)
    verdict = Verdict(codes[case.subject])
    why, missing = _told(judgement, case, verdict)
    return Outcome(case, verdict, why or missing, _wrong(case, verdict, why, missing), judgement)


def _told(judgement: Judgement, case: Case, verdict: Verdict) -> tuple[str, str]:
    if verdict not in EVERY_VERDICT or verdict is Verdict.MET:
        return "", ""
    rows = (judgement.codes[case.rule] == verdict).arg_true()
    place = int((rows < case.subject).sum())
    row = describe(judgement, alike(judgement, (verdict,)), timed=False).row(place, named=True)
    return row["because"] or "", ", ".join(row["missing"])


def _wrong(case: Case, verdict: Verdict, why: str, missing: str) -> str:
    if verdict is not case.expect:
        reason = f": {why or missing}" if why or missing else ""
        return f"expected {case.expect.word}, got {verdict.word}{reason}"
    if case.because and case.because not in why:
        return f'the reason does not say "{case.because}": {why or "there is none"}'
    if case.missing and case.missing not in missing:
        return f'what is missing does not name "{case.missing}": {missing or "nothing"}'
    return ""


def rules_without(rulebook: Rulebook, cases: list[Case], verdict: Verdict) -> Iterator[Demand]:
    """The rules for which no case expects a verdict."""
    shown = {case.rule for case in cases if case.expect is verdict}
    return (demand for demand in rulebook.demands if demand.id not in shown)
