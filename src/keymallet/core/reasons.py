"""Why a row is in breach, and what is missing where that cannot be told; as columns of text.

`because(node, wanted)` explains, for the rows where an expression has the other truth value than
the one wanted, which comparisons made it so, with the row's own figures. `missing` names, for the
rows where it is unknown, the facts that would be needed.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from datetime import timedelta
from functools import cached_property

import polars as pl

from keymallet.core import facts, wording
from keymallet.core.evidence import (
    CANDIDATES,
    NOTHING_KNOWN,
    UNREAD,
    account_names,
    row_column,
    source_column,
)
from keymallet.core.facts import Kind
from keymallet.core.language import typed
from keymallet.core.language.typed import Typed
from keymallet.core.workspace import Workspace

MOST_ROWS_NAMED = 3
_OPPOSITE = {"<=": ">", "<": ">=", ">=": "<", ">": "<=", "=": "!=", "!=": "="}
_MIRRORED = {"<=": ">=", "<": ">", ">=": "<=", ">": "<", "=": "=", "!=": "!="}
_DEMAND = {
    "<=": "at most {} is allowed",
    "<": "less than {} is allowed",
    ">=": "at least {} is asked for",
    ">": "more than {} is asked for",
    "=": "asked for is {}",
    "!=": "not allowed is {}",
}


def because(workspace: Workspace, table: str, node: Typed, rows: pl.Series) -> pl.Series:
    """Explain why `node` is false on these rows of a table; one text for each row."""
    subject = _Subject(workspace, table, rows, node)
    return subject.because(node, True).fill_null(f"{node.text} does not hold").alias("because")


def missing(workspace: Workspace, table: str, nodes: list[Typed], rows: pl.Series) -> pl.Series:
    """Name the facts for want of which these expressions are unknown on these rows; a list for each row."""
    columns: list[pl.Series] = []
    for node in nodes:
        columns.extend(_Subject(workspace, table, rows, node).missing(node))
    named = pl.DataFrame([column.alias(str(number)) for number, column in enumerate(columns)])
    if not columns:
        return pl.Series("missing", [[]] * len(rows), dtype=pl.List(pl.String))
    lists = pl.concat_list(pl.all()).list.drop_nulls().list.unique(maintain_order=True)
    return named.select(lists.alias("missing")).to_series()


@dataclass(frozen=True)
class _Subject:
    """Some rows of a table, and an expression about them. `prefix` leads the names of its facts."""

    workspace: Workspace
    table: str
    rows: pl.Series
    about: Typed
    prefix: str = ""

    @cached_property
    def frame(self) -> pl.DataFrame:
        """These rows, with the columns the expression needs."""
        return self.workspace.rows_for(self.table, self.rows, [self.about])

    def value(self, node: Typed) -> pl.Series:
        """The expression's value on these rows."""
        lowered = self.workspace.lowering.lower(node).alias("=")
        return self.frame.lazy().with_columns(lowered).select("=").collect().to_series()

    def of_owner(self, node: typed.OfOwner) -> _Subject:
        """The accounts or people these rows belong to."""
        rows = self.frame[node.link]
        return replace(self, table=node.owner, rows=rows, about=node.body, prefix=f"{node.owner}.")

    # why a truth value is not the wanted one

    def because(self, node: Typed, wanted: bool) -> pl.Series:
        """Text where the value is known and not `wanted`; null elsewhere."""
        match node:
            case typed.Not():
                return self.because(node.operand, not wanted)
            case typed.Term():
                return self.because(node.body, wanted)
            case typed.OfOwner():
                return self.of_owner(node).because(node.body, wanted)
            case typed.Junction():
                members = [self.because(member, wanted) for member in node.members]
                text = _joined(_told_once(members), ". Also ")
            case typed.Compare():
                text = self._compared(node, wanted)
            case typed.Within():
                text = self._demanded(node.operand, _membership(node, wanted))
            case typed.Has():
                text = self._demanded(node.operand, self._wanted_words(node, wanted))
            case typed.Pattern():
                word = "asked for is" if wanted else "not allowed is"
                text = self._demanded(node.operand, f"{word} {node.word} '{node.pattern}'")
            case typed.Known() if node.negated is wanted:
                text = _Texts(self).described(node.operand)
            case typed.Known():
                text = self.same_text(f"{self.prefix}{node.operand.text}: nothing on record")
            case typed.Ask():
                text = _Rows(self, node).because(wanted)
            case typed.Unshared():
                text = _shared_with(self, node)
            case _:
                text = _Texts(self).described(node)
        value = self.value(node)
        return _where(value == (not wanted), text)

    def _compared(self, node: typed.Compare, wanted: bool) -> pl.Series:
        left, operator, right = node.left, node.operator, node.right
        if isinstance(left, typed.Const):
            left, operator, right = right, _MIRRORED[operator], left
        if not wanted:
            operator = _OPPOSITE[operator]
        described = _Texts(self).described(left)
        if isinstance(right, typed.PerPopulation):
            bound = "the least is " if operator in (">", ">=") else "the limit is "
            return _joined([described, bound + _Texts(self).plain(right)])
        if isinstance(right, typed.Const) and right.limit:
            bound = "the least is" if operator in (">", ">=") else "the limit is"
            return _joined([described, self.same_text(f"{bound} {wording.constant(right)}")])
        if _is_to_come(left, operator, right):
            return _joined([described, self.same_text("it has to be still to come")])
        if isinstance(right, typed.Const):
            return _joined([described, self.same_text(_DEMAND[operator].format(wording.constant(right)))])
        before, after = _DEMAND[operator].split("{}")
        return _joined([described, before + _Texts(self).described(right) + after])

    def _demanded(self, operand: Typed, demand: str) -> pl.Series:
        return _joined([_Texts(self).described(operand), self.same_text(demand)])

    def _wanted_words(self, node: typed.Has, wanted: bool) -> str:
        words = (
            wording.constant(node.wanted)
            if isinstance(node.wanted, typed.Const | typed.ConstList)
            else node.wanted.text
        )
        if node.mode == "one":
            return f"{'asked for is' if wanted else 'not allowed is'} {words}"
        return f"{'asked for' if wanted else 'not allowed'} is {node.mode} of {words}"

    def same_text(self, text: str) -> pl.Series:
        """One text for all these rows."""
        return pl.Series([text], dtype=pl.String).new_from_index(0, self.frame.height)

    # what is missing

    def missing(self, node: Typed) -> list[pl.Series]:
        """Names of facts, each a column that is null where the fact is not wanting."""
        match node:
            case typed.Const() | typed.ConstList() | typed.At():
                return []
            case typed.Unshared():
                who_else = f"whether another {node.table} with the same {node.fact.column.name} counts"
                named = [self._named(node.fact), self.same_text(who_else)]
                value = self.value(node.fact)
                named = [_where(value.is_null(), named[0]), _where(value.is_not_null(), named[1])]
            case typed.OfOwner():
                named = self.of_owner(node).missing(node.body)
            case typed.Fact():
                named = [self._named(node)]
            case typed.Derived() if node.fact.column.derivation is facts.Derivation.UNLESS_KNOWN:
                named = [self._named(node.fact)]
            case typed.Derived():
                named = self.missing(node.body)
            case typed.Ask():
                named = [self._named_rows(node)]
            case typed.Known():
                named = (
                    self.missing(node.operand)
                    if isinstance(node.operand, typed.Derived)
                    else [self._named(node.operand)]
                )
            case _:
                named = [column for part in node.parts for column in self.missing(part)]
        unknown = self.value(node).is_null()
        return [_where(unknown, column) for column in named]

    def _named(self, node: typed.Fact) -> pl.Series:
        """The fact's name, and how it comes to be unknown."""
        name = self.prefix + node.text
        suppliers = self.workspace.evidence.suppliers(node.table, node.column.name)
        supplied = self.workspace.lowering.is_source_of(node.table, suppliers)
        how = (
            pl.when(supplied)
            .then(pl.lit(f"{name} (not recorded)"))
            .otherwise(pl.lit(f"{name} (not supplied)"))
        )
        if CANDIDATES in self.frame.columns and node.column.name in _ABOUT_ITS_PERSON:
            ambiguous = pl.col(CANDIDATES).is_not_null()
            how = pl.when(ambiguous).then(pl.lit(f"{name} (it could be several people's)")).otherwise(how)
            return self._told(how)
        if UNREAD in self.frame.columns:
            nothing = pl.col(UNREAD).list.contains(pl.lit(NOTHING_KNOWN))
            how = pl.when(nothing).then(pl.lit(f"{node.table} (nothing is known of it)")).otherwise(how)
            unread = pl.col(UNREAD).list.contains(pl.lit(node.column.name))
            how = pl.when(unread).then(pl.lit(f"{name} (unreadable)")).otherwise(how)
        return self._told(how)

    def _named_rows(self, node: typed.Ask) -> pl.Series:
        """The table that is not supplied, or the facts of its rows that are not known."""
        supplied = self.workspace.lowering.is_source_of(
            "account", self.workspace.evidence.suppliers(node.table)
        )
        if node.table == facts.ACCOUNT.name:
            return self.same_text("accounts of which it is not known whose they are, or what they are")
        used = dict.fromkeys(
            f"{node.table}.{part.text}" for part in node.walk() if isinstance(part, typed.Fact)
        )
        how = (
            pl.when(supplied)
            .then(pl.lit(", ".join(used) + " (not recorded)"))
            .otherwise(pl.lit(f"{node.table} (not supplied)"))
        )
        return self._told(how)

    def _told(self, how: pl.Expr) -> pl.Series:
        if self.prefix:
            orphan = pl.col(source_column(facts.TABLES[self.table])).is_null()
            how = pl.when(orphan).then(pl.lit(_NOT_THERE[self.table])).otherwise(how)
        return self.frame.lazy().with_columns(how.alias("=")).select("=").collect().to_series()


@dataclass(frozen=True)
class _Texts:
    """Values of the subject's rows with their names, as text."""

    subject: _Subject

    def described(self, node: Typed) -> pl.Series:
        """`password-changed 2026-03-02, 267 d ago`, `password-scheme md5`, `enabled: no`."""
        subject = self.subject
        clock = subject.workspace.clock
        if isinstance(node, typed.OfOwner):
            return _Texts(subject.of_owner(node)).described(node.body)
        if isinstance(node, typed.Call) and node.function in ("age", "until"):
            instant = node.arguments[0]
            since = subject.value(typed.Call(typed.SPAN, "", "age", (instant,)))
            return self.described(instant) + ", " + wording.ago(since)
        if isinstance(node, typed.Ask) and node.question == "count":
            return _Rows(subject, node).counted()
        if (
            isinstance(node, typed.Call)
            and node.function == "length"
            and node.arguments[0].type.kind is Kind.WORDS
        ):
            return self._counted_words(node)
        if isinstance(node, typed.Const | typed.ConstList):
            return subject.same_text(wording.constant(node))
        if isinstance(node, typed.PerPopulation):
            return self.plain(node)
        written = wording.values(subject.value(node), node.type.kind, clock).fill_null("unknown")
        colon = (
            ":"
            if node.type.kind in (Kind.FLAG, Kind.SPAN) or isinstance(node, typed.Call | typed.Shift)
            else ""
        )
        return pl.Series([f"{subject.prefix}{node.text}{colon} "]).new_from_index(0, len(written)) + written

    def plain(self, node: Typed) -> pl.Series:
        """The value alone, without a name."""
        clock = self.subject.workspace.clock
        return wording.values(self.subject.value(node), node.type.kind, clock).fill_null("unknown")

    def _counted_words(self, node: typed.Call) -> pl.Series:
        """`2 in labels: contractor, visitor`."""
        number = self.subject.value(node).cast(pl.String).fill_null("unknown")
        listed = self.subject.value(node.arguments[0]).list.join(", ").fill_null("")
        name = f"{self.subject.prefix}{node.arguments[0].text}"
        parts = pl.DataFrame({"number": number, "listed": listed})
        told = pl.format("{} in {}: {}", "number", pl.lit(name), "listed")
        plain = pl.format("{} in {}", "number", pl.lit(name))
        return parts.select(pl.when(pl.col("listed") != "").then(told).otherwise(plain)).to_series()


@dataclass(frozen=True)
class _Rows:
    """The rows that a question was about, named."""

    subject: _Subject
    ask: typed.Ask

    def because(self, wanted: bool) -> pl.Series:
        """Why the answer is not the wanted one."""
        question = self.ask.question
        condition = "" if self.ask.condition is None else f" with {self.ask.condition.text}"
        table = self.ask.table
        if question == "every" and wanted:
            lead = f"{self._condition_text} does not hold for {table} "
            return self._listed(False, lead, f"{lead}…")
        if question == "every":
            return self._listed(None, f"{self._condition_text} holds for {table} ", f"no {table} on record")
        if (question == "some") is wanted:
            return self._listed(None, f"no {table}{condition}; on record: ", f"no {table} on record")
        return self._listed(True, f"{table} ", f"{table}{condition}")

    @property
    def _condition_text(self) -> str:
        return "" if self.ask.condition is None else self.ask.condition.text

    def counted(self) -> pl.Series:
        """`5 grants with privileged: admin (direct), …`."""
        number = self.subject.value(self.ask).cast(pl.String)
        condition = "" if self.ask.condition is None else f" with {self.ask.condition.text}"
        noun = self.ask.table
        numbers = pl.DataFrame({"n": number})
        text = (
            pl.when(pl.col("n") == "1")
            .then(pl.lit(f"1 {noun}"))
            .otherwise(pl.format("{} {}s", "n", pl.lit(noun)))
        )
        return numbers.select(text + condition).to_series()

    def _listed(self, truth: bool | None, lead: str, nothing: str) -> pl.Series:
        """Name the first few rows for which the condition has this truth value (None: all rows)."""
        workspace = self.subject.workspace
        table = facts.TABLES[self.ask.table]
        owner = row_column(table)
        wanted = self.subject.rows.alias(owner).to_frame().unique()
        label = ("account",) if table is facts.ACCOUNT else table.label
        shown = [name for name in label if name in workspace.frames[table.name].columns]
        rows = workspace.frames[table.name].lazy().join(wanted.lazy(), on=owner, how="semi")
        if truth is not None and self.ask.condition is not None:
            rows = rows.filter(workspace.lowering.lower(self.ask.condition) == truth)
        said = pl.concat_str(
            [pl.col(name).cast(pl.String) for name in shown], separator=" ", ignore_nulls=True
        )
        named = rows.group_by(owner, maintain_order=True).agg(
            said.head(MOST_ROWS_NAMED).alias("labels"), pl.len().alias("all")
        )
        more = pl.col("all").cast(pl.Int64) - MOST_ROWS_NAMED
        text = pl.lit(lead) + pl.col("labels").list.join(", ")
        text = pl.when(more > 0).then(pl.format("{} and {} more", text, more)).otherwise(text)
        subjects = self.subject.rows.alias(owner).to_frame().lazy()
        joined = subjects.join(named, on=owner, how="left", maintain_order="left")
        return joined.select(text.fill_null(nothing).alias("=")).collect().to_series()


def _shared_with(subject: _Subject, node: typed.Unshared) -> pl.Series:
    """`the same digest as: directory/a, cloud/b and 3 more`; without the value, which may be a secret."""
    workspace, table = subject.workspace, facts.TABLES[node.table]
    frame = workspace.frames[node.table]
    if table is facts.ACCOUNT:
        names = frame["account"]
    elif table.of_account:
        names = account_names(workspace.frames[facts.ACCOUNT.name], frame)
    else:
        names = frame[table.label[0]]
    counts = workspace.lowering.lower(node.who).fill_null(False).alias("counts")
    whole = frame.lazy().select(pl.col(node.fact.column.name).alias("value"), counts).collect()
    whole = whole.with_columns(names.cast(pl.String).alias("name"))
    held = whole.filter("counts").drop_nulls("value").select("value", "name").unique(maintain_order=True)
    mine = whole[subject.rows].select("value", own="name").with_row_index("place")
    others = mine.join(held, on="value", how="left", maintain_order="left_right")
    others = others.filter(pl.col("name") != pl.col("own"))
    listed = others.group_by("place", maintain_order=True).agg(
        pl.col("name").head(MOST_ROWS_NAMED).alias("labels"), pl.len().alias("all")
    )
    more = pl.col("all").cast(pl.Int64) - MOST_ROWS_NAMED
    text = pl.lit(f"the same {node.fact.column.name} as: ") + pl.col("labels").list.join(", ")
    told = listed.with_columns(
        pl.when(more > 0).then(pl.format("{} and {} more", text, more)).otherwise(text).alias("=")
    )
    return mine.join(told, on="place", how="left", maintain_order="left")["="]


_NOT_THERE = {
    facts.ACCOUNT.name: "the account itself (not in the evidence)",
    facts.PERSON.name: "the person itself (nobody on the roster is known to hold it)",
    facts.SETTING.name: "the setting in force for it (none is known)",
}


_ABOUT_ITS_PERSON = ("person", "on-roster", "tied-by")


def _is_to_come(left: Typed, operator: str, right: Typed) -> bool:
    """Whether a comparison says no more than that something lies ahead: `until(ends) > 0s`."""
    ahead = isinstance(left, typed.Call) and left.function == "until" and operator in (">", ">=")
    return ahead and isinstance(right, typed.Const) and right.value == timedelta()


def _told_once(texts: list[pl.Series]) -> list[pl.Series]:
    """Leave out, on each row, a text that another one begins with: it says the same, and more."""
    frame = pl.DataFrame([text.alias(str(number)) for number, text in enumerate(texts)])
    kept = []
    for number in range(len(texts)):
        mine = pl.col(str(number))
        said = [
            (pl.col(str(other)).str.starts_with(mine) & ((pl.col(str(other)) != mine) | (other < number)))
            for other in range(len(texts))
            if other != number
        ]
        repeated = pl.any_horizontal(each.fill_null(False) for each in said) if said else pl.lit(False)
        kept.append(pl.when(~repeated).then(mine).alias(str(number)))
    return frame.select(kept).get_columns()


def _membership(node: typed.Within, wanted: bool) -> str:
    word = "not allowed" if node.negated is wanted else "allowed"
    return f"{word}: {wording.constant(node.choices)}"


def _joined(texts: list[pl.Series], separator: str = "; ") -> pl.Series:
    frame = pl.DataFrame([text.alias(str(number)) for number, text in enumerate(texts)])
    text = pl.concat_str(pl.all(), separator=separator, ignore_nulls=True)
    return frame.select(pl.when(text != "").then(text).alias("=")).to_series()


def _where(condition: pl.Series, text: pl.Series) -> pl.Series:
    return pl.DataFrame({"if": condition, "then": text}).select(pl.when("if").then("then")).to_series()
