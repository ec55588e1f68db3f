"""Some rows of a table and what is said of them: values, names and lists, as columns of text."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property

import polars as pl

from keymallet.core.base.columns import only_where
from keymallet.core.base.listing import first_few, listed
from keymallet.core.evaluating.context import EvaluationContext
from keymallet.core.explaining.wording import constant_text, label_text
from keymallet.core.facts import wording
from keymallet.core.facts.declaration import ACCOUNT, TABLES
from keymallet.core.facts.evidence import row_column
from keymallet.core.facts.model import Kind
from keymallet.core.language import typed
from keymallet.core.language.functions import FUNCTIONS
from keymallet.core.language.typed import Typed


@dataclass(frozen=True)
class ExplanationContext:
    """Some rows of a table, and an expression about them. `prefix` leads the names of its facts."""

    context: EvaluationContext
    table: str
    rows: pl.Series
    about: Typed
    prefix: str = ""

    @cached_property
    def frame(self) -> pl.DataFrame:
        """These rows, with the columns the expression needs."""
        return self.context.rows_for(self.table, self.rows, [self.about])

    def value(self, node: Typed) -> pl.Series:
        """The expression's value on these rows."""
        lowered = self.context.lowering.lower(node).alias("=")
        return self.frame.lazy().with_columns(lowered).select("=").collect().to_series()

    def of_owner(self, node: typed.OfOwner) -> ExplanationContext:
        """The accounts or people these rows belong to."""
        rows = self.frame[node.link]
        return replace(self, table=node.owner, rows=rows, about=node.body, prefix=f"{node.owner}.")

    def same_text(self, text: str) -> pl.Series:
        """One text for all these rows."""
        return pl.Series([text], dtype=pl.String).new_from_index(0, self.frame.height)


@dataclass(frozen=True)
class Texts:
    """Values of the subject's rows with their names, as text; instants and lengths in this detail."""

    explained: ExplanationContext
    detail: int = 0

    def described(self, node: Typed) -> pl.Series:
        """`password-changed 2026-03-02, 267 d ago`, `password-scheme md5`, `enabled: no`."""
        explained = self.explained
        clock = explained.context.clock
        if isinstance(node, typed.OfOwner):
            return Texts(explained.of_owner(node), self.detail).described(node.body)
        if isinstance(node, typed.Call) and FUNCTIONS[node.function].in_time.moves_by_itself:
            instant = node.arguments[0]
            since = explained.value(typed.Call(typed.SPAN, "", "age", (instant,)))
            return Texts(explained).described(instant) + ", " + wording.ago(since, self.detail)
        if isinstance(node, typed.RowQuery) and node.question == "count":
            return QueriedRows(explained, node).counted()
        if (
            isinstance(node, typed.Call)
            and node.function == "length"
            and node.arguments[0].type.kind is Kind.WORDS
        ):
            return self._counted_words(node)
        if isinstance(node, typed.Const | typed.ConstList):
            return explained.same_text(constant_text(node, clock))
        if isinstance(node, typed.PerPopulation):
            return self.plain(node)
        value = explained.value(node)
        written = wording.values(value, node.type.kind, clock, self.detail).fill_null("unknown")
        colon = (
            ":"
            if node.type.kind in (Kind.FLAG, Kind.SPAN) or isinstance(node, typed.Call | typed.AddSub)
            else ""
        )
        return pl.Series([f"{explained.prefix}{node.text}{colon} "]).new_from_index(0, len(written)) + written

    def plain(self, node: Typed) -> pl.Series:
        """The value alone, without a name."""
        clock = self.explained.context.clock
        value = self.explained.value(node)
        return wording.values(value, node.type.kind, clock, self.detail).fill_null("unknown")

    def _counted_words(self, node: typed.Call) -> pl.Series:
        """`2 in labels: contractor, visitor`."""
        number = self.explained.value(node).cast(pl.String).fill_null("unknown")
        listed = self.explained.value(node.arguments[0]).list.join(", ").fill_null("")
        name = f"{self.explained.prefix}{node.arguments[0].text}"
        parts = pl.DataFrame({"number": number, "listed": listed})
        text_with_list = pl.format("{} in {}: {}", "number", pl.lit(name), "listed")
        plain = pl.format("{} in {}", "number", pl.lit(name))
        return parts.select(pl.when(pl.col("listed") != "").then(text_with_list).otherwise(plain)).to_series()


@dataclass(frozen=True)
class QueriedRows:
    """The rows that a question was about, named."""

    explained: ExplanationContext
    query: typed.RowQuery

    @property
    def condition_text(self) -> str:
        """The question's condition as it was written."""
        return "" if self.query.condition is None else self.query.condition.text

    def counted(self) -> pl.Series:
        """`5 grants with privileged: admin (direct), …`."""
        number = self._number()
        condition = "" if self.query.condition is None else f" with {self.query.condition.text}"
        noun = self.query.table
        numbers = pl.DataFrame({"n": number})
        text = (
            pl.when(pl.col("n") == "1")
            .then(pl.lit(f"1 {noun}"))
            .otherwise(pl.format("{} {}s", "n", pl.lit(noun)))
        )
        said = numbers.select(text + condition).to_series()
        named = self.listed(True, ": ", "")
        return (said + only_where(self.explained.value(self.query) > 0, named).fill_null("")).alias("=")

    def _number(self) -> pl.Series:
        """How many there are; where that is not known, the fewest and the most there can be: `3 to 4`."""
        number = self.explained.value(self.query).cast(pl.String)
        bounds = [replace(self.query, question=which) for which in ("fewest", "most")]
        if not all(query in self.explained.context.placed for query in bounds):
            return number
        fewest, most = (self.explained.value(query).cast(pl.String) for query in bounds)
        said = pl.DataFrame({"number": number, "fewest": fewest, "most": most.fill_null("more")})
        return said.select(pl.coalesce("number", pl.format("{} to {}", "fewest", "most"))).to_series()

    def _theirs(self, owner: str) -> pl.Series:
        """The rows of the table asked about that belong to these subjects."""
        # Marking owners takes one pass over the rows; joining them would take many times as long.
        links = self.explained.context.frames[self.query.table][owner]
        owners = self.explained.context.frames[self.explained.table].height
        marked = pl.repeat(False, owners, dtype=pl.Boolean, eager=True)
        marked = marked.scatter(self.explained.rows.drop_nulls().unique(), True)
        return marked.gather(links).fill_null(False).arg_true().cast(pl.UInt32)

    def undecided(self) -> pl.DataFrame:
        """The rows of these subjects for which the condition is unknown, with all that is known of them."""
        context, table = self.explained.context, self.query.table
        rows = context.rows_of(table, self._theirs(row_column(TABLES[table])))
        if self.query.condition is None:
            return rows
        truth = context.lowering.lower(self.query.condition)
        return rows.lazy().filter(truth.is_null()).collect()

    def listed(self, truth: bool | None, lead: str, nothing: str) -> pl.Series:
        """Name the first few rows for which the condition has this truth value (None: all rows)."""
        context = self.explained.context
        table = TABLES[self.query.table]
        owner = row_column(table)
        label = ("account",) if table is ACCOUNT else table.label
        shown = [name for name in label if name in context.frames[table.name].columns]
        needed = context.names_for(table.name, [self.query.condition] if self.query.condition else [])
        rows = context.rows_of(table.name, self._theirs(owner), {*needed, *shown}).lazy()
        if truth is not None and self.query.condition is not None:
            rows = rows.filter(context.lowering.lower(self.query.condition) == truth)
        said = pl.concat_str([label_text(table, name) for name in shown], separator=" ", ignore_nulls=True)
        named = rows.group_by(owner, maintain_order=True).agg(first_few(said))
        subjects = self.explained.rows.alias(owner).to_frame().lazy()
        joined = subjects.join(named, on=owner, how="left", maintain_order="left")
        return joined.select(listed(pl.lit(lead)).fill_null(nothing).alias("=")).collect().to_series()


def joined(texts: list[pl.Series], separator: str = "; ") -> pl.Series:
    """Several texts of each row as one, without those that are null; null if all are."""
    frame = pl.DataFrame([text.alias(str(number)) for number, text in enumerate(texts)])
    text = pl.concat_str(pl.all(), separator=separator, ignore_nulls=True)
    return frame.select(pl.when(text != "").then(text).alias("=")).to_series()
