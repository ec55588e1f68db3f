"""Some rows of a table and what is said of them: values, names and lists, as columns of text."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from functools import cached_property

import polars as pl

from keymallet.core.base.columns import only_where
from keymallet.core.base.listing import first_few, listed
from keymallet.core.evaluating.context import EvaluationContext
from keymallet.core.explaining.clauses import thing
from keymallet.core.explaining.row_names import named_by, row_name
from keymallet.core.facts.declaration import TABLES
from keymallet.core.facts.evidence import row_column
from keymallet.core.facts.model import Kind
from keymallet.core.facts.phrases import noun
from keymallet.core.language import typed
from keymallet.core.language.typed import Typed


@dataclass(frozen=True)
class ExplanationContext:
    """Some rows of a table, and an expression about them. `prefix` leads the names of its facts."""

    context: EvaluationContext
    table: str
    rows: pl.Series
    about: Typed
    prefix: str = ""
    values: dict[Typed, pl.Series] = field(default_factory=dict, compare=False, repr=False)

    @cached_property
    def frame(self) -> pl.DataFrame:
        """These rows, with the columns the expression needs."""
        return self.context.rows_for(self.table, self.rows, [self.about])

    def value(self, node: Typed) -> pl.Series:
        """The expression's value on these rows."""
        if node not in self.values:
            lowered = self.context.lowering.lower(node).alias("=")
            self.values[node] = self.frame.lazy().with_columns(lowered).select("=").collect().to_series()
        return self.values[node]

    def of_owner(self, node: typed.OfOwner) -> ExplanationContext:
        """The accounts or people these rows belong to."""
        rows = self.frame[node.link]
        prefix = f"{node.owner}."
        return replace(self, table=node.owner, rows=rows, about=node.body, prefix=prefix, values={})

    def lead(self, kind: Kind) -> str:
        """What is said in front of a fact's phrase, where it is not the row's own."""
        if not self.prefix:
            return ""
        owner = noun(TABLES[self.table])
        if kind is Kind.FLAG:
            return f"the {owner} "
        return f"{owner}'s " if kind in (Kind.TEXT, Kind.WORD) else f"{owner}: "

    def same_text(self, text: str) -> pl.Series:
        """One text for all these rows."""
        return pl.Series([text], dtype=pl.String).new_from_index(0, self.frame.height)


@dataclass(frozen=True)
class QueriedRows:
    """The rows that a question was about, named."""

    explained: ExplanationContext
    query: typed.RowQuery

    def thing(self, several: bool = False) -> str:
        """What the question is about: `active phishing-resistant factor`."""
        return thing(TABLES[self.query.table], self.query.condition, several)

    def counted(self) -> pl.Series:
        """`5 privileged rights: admin, …`."""
        numbers = pl.DataFrame({"n": self._number()})
        one = pl.lit(f"1 {self.thing()}")
        several = pl.format("{} {}", "n", pl.lit(self.thing(several=True)))
        said = numbers.select(pl.when(pl.col("n") == "1").then(one).otherwise(several)).to_series()
        named = self.listed(True, ": ", "")
        named = named.replace(f": {self.thing()}", "")
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

    def named(self, truth: bool | None) -> pl.DataFrame:
        """The first few rows for which the condition has this truth value (None: all rows), and how many.

        `names` and `all`, null for a subject that has none.
        """
        context = self.explained.context
        table = TABLES[self.query.table]
        owner = row_column(table)
        shown = [name for name in named_by(table) if name in context.frames[table.name].columns]
        needed = context.names_for(table.name, [self.query.condition] if self.query.condition else [])
        rows = context.rows_of(table.name, self._theirs(owner), {*needed, *shown}).lazy()
        if truth is not None and self.query.condition is not None:
            rows = rows.filter(context.lowering.lower(self.query.condition) == truth)
        called = row_name(table, shown, context.clock)
        named = rows.group_by(owner, maintain_order=True).agg(first_few(called))
        subjects = self.explained.rows.alias(owner).to_frame().lazy()
        return subjects.join(named, on=owner, how="left", maintain_order="left").collect()

    def listed(self, truth: bool | None, lead: str, nothing: str) -> pl.Series:
        """The named rows as text, with something in front; `nothing` where there are none."""
        return self.named(truth).select(listed(pl.lit(lead)).fill_null(nothing).alias("=")).to_series()


def joined(texts: list[pl.Series], separator: str = "; ") -> pl.Series:
    """Several texts of each row as one, without those that are null; null if all are."""
    frame = pl.DataFrame([text.alias(str(number)) for number, text in enumerate(texts)])
    text = pl.concat_str(pl.all(), separator=separator, ignore_nulls=True)
    return frame.select(pl.when(text != "").then(text).alias("=")).to_series()
