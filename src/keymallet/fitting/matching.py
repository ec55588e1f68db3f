"""Which column is which fact: every pair is weighed by header and values, the surest are taken first."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace

from keymallet.core.facts.declaration import ACCOUNT, TABLES
from keymallet.core.facts.model import Column, Kind, Table
from keymallet.core.facts.tables.columns import FOR_CHANGES
from keymallet.fitting.fits import Context, Fit, fit_values
from keymallet.fitting.sample import SampledColumn
from keymallet.fitting.shapes import Shape
from keymallet.fitting.vocabulary import name_score, squeezed, vocabulary
from keymallet.sources.export.json_path import MEMBER

SURE, LIKELY, UNSURE = "sure", "likely", "unsure"
LEAST = {SURE: 0.85, LIKELY: 0.6, UNSURE: 0.4}
_CLOSE = 0.05
"""How much less a column may suit a fact and still be as good as the one that was taken."""
_BY_VALUES_ALONE = 0.5
"""How sure the best values can make one of a fact where the header says nothing."""
TABLES_TRIED = (
    "account",
    "person",
    "key",
    "factor",
    "grant",
    "elevation",
    "sign-in",
    "exemption",
    "gate",
    "setting",
)

_CORE = {
    "factor": {"kind"},
    "key": {"key", "kind", "digest"},
    "grant": {"role"},
    "elevation": {"role", "asked"},
    "sign-in": {"at"},
}
"""Facts of which one has to be there for something to be a row of the table."""


@dataclass
class Match:
    """A column taken as a fact. `score`: from 0 to 1; `asked`: somebody said that it is so."""

    fact: Column
    column: SampledColumn
    fit: Fit
    score: float
    by_header: bool = True
    asked: bool = False

    @property
    def sureness(self) -> str:
        """How sure the match is: SURE, LIKELY or UNSURE. What somebody asked for is sure."""
        if self.asked:
            return SURE
        level = next((word for word, least in LEAST.items() if self.score >= least), UNSURE)
        # Where no value tells day and month apart, a good header makes it no surer; nor where the values are
        # numbers that may count something else.
        dates = self.fit.dates
        doubtful = dates is not None and not (dates.proven and dates.spread)
        return LIKELY if level == SURE and (doubtful or self.fit.doubtful) else level

    @property
    def of_member(self) -> bool:
        """Whether it is the member of a list itself, not something in it."""
        return self.column.header == MEMBER

    @property
    def is_used(self) -> bool:
        """Whether the map uses it, or only mentions it."""
        return self.sureness != UNSURE


@dataclass
class Part:
    """What fills one table: its matches. `rows` is the list in each record whose members are the rows.

    `separator` stands between the members where that list is a cell. `absent` are facts that somebody said
    the system has no notion of; with `if_columns` the part is one of several for its table, told apart by
    the columns that files have. `spread` are numbered columns of which each number is a row.
    """

    table: Table
    matches: list[Match]
    rows: str = ""
    separator: str = ""
    absent: tuple[str, ...] = ()
    if_columns: tuple[str, ...] = ()
    spread: tuple[str, ...] = ()

    @property
    def key(self) -> str:
        """The fact without which there is no row."""
        return self.table.required

    def uses(self, match: Match) -> bool:
        """Whether the map that is written takes this match, rather than mention it in a comment.

        It takes all that are sure or likely; and the one for the table's key in any case, since a map
        without it cannot be read.
        """
        return match.is_used or match.fact.name == self.key

    @property
    def not_told(self) -> list[str]:
        """The facts of the table that the map does not give, and that nothing else works out."""
        given = {match.fact.name for match in self.matches if self.uses(match)}
        columns = [column for column in self.table.columns if _is_asked_for(column)]
        return [column.name for column in columns if column.name not in {*given, "account", "source"}]

    @property
    def has_rows(self) -> bool:
        """Whether it has what makes a row of the table: its key, and of an account's things, what it is."""
        facts = {match.fact.name for match in self.matches if self.uses(match)}
        core = _CORE.get(self.table.name)
        return self.key in facts and (core is None or bool(facts & core))

    @property
    def weight(self) -> float:
        """How much of the table it fills, and how surely."""
        return sum(match.score for match in self.matches)


@dataclass(frozen=True)
class Asked:
    """What somebody said: the table, and facts by the name of their column (none: not to be guessed)."""

    table: str = ""
    facts: Mapping[str, str] = field(default_factory=dict)


def best_part(shapes: Sequence[Shape], tables: Iterable[str], context: Context, asked: Asked) -> Part | None:
    """The table that these columns fill best; None where none of their columns can be the key of one."""
    parts = [Part(TABLES[name], _matches(shapes, TABLES[name], context, asked)) for name in tables]
    whole = [part for part in parts if part.has_rows]
    if any(part.table is ACCOUNT for part in whole):
        whole = [part for part in whole if not _lists_accounts(part)]
    return max(whole, key=lambda part: part.weight, default=None)


def _lists_accounts(part: Part) -> bool:
    """Whether rows of accounts' things are rather accounts: each stands once, and some have no such thing."""
    if not part.table.of_account:
        return False
    facts = {match.fact.name: Shape(match.column) for match in part.matches if part.uses(match)}
    core = [shape for name, shape in facts.items() if name in _CORE.get(part.table.name, ())]
    account = facts[part.key]
    each_once = account.distinct == 1.0 and account.rows_told == account.column.rows
    return each_once and bool(core) and all(shape.rows_told < shape.column.rows for shape in core)


def _is_asked_for(fact: Column) -> bool:
    """Whether an export can be asked to tell a fact."""
    return not fact.across and not fact.definition and fact not in FOR_CHANGES


def _matches(shapes: Sequence[Shape], table: Table, context: Context, asked: Asked) -> list[Match]:
    """The best use of these columns for the facts of a table, in the order of the columns."""
    not_given = {"source", "account"} if table is ACCOUNT else {"source"}
    told = [fact for fact in table.columns if not fact.across and fact not in FOR_CHANGES]
    wanted = [fact for fact in told if fact.name not in not_given]
    pairs = [
        match
        for shape in shapes
        for fact in wanted
        if fact.name not in asked.facts and (match := weigh(shape, table, fact, context))
    ]
    key = table.required
    taken = {match.fact.name: match for match in _asked_for(shapes, table, context, asked)}
    used = {match.column.header for match in taken.values()}
    # The key first: without it there is no row, and what is left of it ("Name") suits other facts as well.
    pairs.sort(key=lambda match: (match.fact.name != key or match.score < LEAST[UNSURE], -match.score))
    for match in pairs:
        if match.fact.name not in taken and match.column.header not in used and match.score >= LEAST[UNSURE]:
            taken[match.fact.name] = match
            used.add(match.column.header)
    _note_rivals(taken, pairs, used)
    if table is ACCOUNT:
        unused = [shape for shape in shapes if shape.column.header not in used]
        for match in [*_key_from_mail(taken, unused), *_locked_by_status(taken, asked)]:
            taken.setdefault(match.fact.name, match)
    order = {column.header: place for place, column in enumerate(shape.column for shape in shapes)}
    return sorted(taken.values(), key=lambda match: order[match.column.header])


def weigh(shape: Shape, table: Table, fact: Column, context: Context) -> Match | None:
    """One column held against one fact; None where there is nothing in it."""
    named = name_score(shape.column.names, table, fact)
    by_header = named.score if named.score >= LEAST[UNSURE] else 0.0
    if not by_header and not _tells_by_values(shape, fact):
        return None
    fit = fit_values(shape, table, fact, context, named)
    if not by_header and fit.share < 0.95:
        return None
    return Match(fact, shape.column, fit, (by_header or _BY_VALUES_ALONE) * fit.share, bool(by_header))


def _tells_by_values(shape: Shape, fact: Column) -> bool:
    """Whether values alone can tell this fact: mail addresses, and words of a closed set."""
    if fact.name == "mail":
        return shape.mails >= 0.95
    return fact.kind is Kind.WORD and len(shape.told) > 1 and not shape.column.is_list


def _asked_for(shapes: Sequence[Shape], table: Table, context: Context, asked: Asked) -> Iterable[Match]:
    by_header = {shape.column.header: shape for shape in shapes}
    for name, header in asked.facts.items():
        fact, shape = table.column(name), by_header.get(header)
        if fact is not None and shape is not None:
            fit = fit_values(shape, table, fact, context)
            yield Match(fact, shape.column, fit, 1.0, asked=True)


def _note_rivals(taken: dict[str, Match], pairs: Sequence[Match], used: set[str]) -> None:
    """Of two columns that say the same fact as well, nobody can be sure of either."""
    for fact, match in taken.items():
        rivals = [
            pair.column.header
            for pair in pairs
            if pair.fact.name == fact
            and pair.column.header not in used
            and pair.score >= match.score - _CLOSE
        ]
        if rivals and not match.asked:
            remark = "; ".join(filter(None, (match.fit.remark, f'it could be "{rivals[0]}" as well')))
            match.fit = replace(match.fit, remark=remark, doubtful=True)


def _key_from_mail(taken: dict[str, Match], unused: Sequence[Shape]) -> Iterable[Match]:
    """Where no column is a login name, people sign in with their mail address.

    A column that looks like one, whatever it is called, makes that no more than a possibility.
    """
    if "name" not in taken and "mail" in taken and Shape(taken["mail"].column).distinct > 0.98:
        others = [shape.column.header for shape in unused if shape.may_be_login]
        remark = f'"{others[0]}" may be the login name' if others else "no other column is a login name"
        score = LEAST[UNSURE] if others else LEAST[LIKELY]
        yield Match(ACCOUNT.column("name"), taken["mail"].column, Fit(1.0, remark=remark), score)  # type: ignore[arg-type]


def _locked_by_status(taken: dict[str, Match], asked: Asked) -> Iterable[Match]:
    """A status of several words can say both whether an account is switched on and whether it is locked."""
    status, fact = taken.get("enabled"), ACCOUNT.column("locked")
    if status is None or fact is None or taken.keys() & {"locked"} or "locked" in asked.facts:
        return
    words = vocabulary().words["account.locked"]
    locked = [value for value in status.column.values if squeezed(value) in words]
    if locked and "true" in status.fit.options and set(locked) < set(status.fit.options["true"]):
        others = [*status.fit.options["true"], *status.fit.options["false"]]
        others = [value for value in others if value not in locked]
        fit = Fit(1.0, {"true": locked, "false": others}, remark="the same column says both")
        yield Match(fact, status.column, fit, min(status.score, 0.8))
