"""Questions about the rows of an account, or the accounts of a person."""

from __future__ import annotations

from keymallet.core.base.nearest import article, did_you_mean
from keymallet.core.facts.declaration import PERSON, TABLES, owned_tables, way_to_owner
from keymallet.core.facts.model import Kind, Table
from keymallet.core.language import tree, typed
from keymallet.core.language.check_base import CheckerBase
from keymallet.core.language.owner_projection import project_to_row
from keymallet.core.language.typed import COUNT, FLAG, INSTANT, Typed

_OF_A_COLUMN = ("latest", "earliest")


class ChecksAsks(CheckerBase):
    """Resolves questions about rows: which table, by which way from the row at hand, and their condition."""

    def row_query(self, node: tree.RowQuery) -> Typed | None:
        """A question about rows of the account, or about accounts of the person."""
        table = TABLES.get(node.table)
        if table is None or not table.owner:
            names = [table.name for table in owned_tables()]
            hint = did_you_mean(node.table, names) or f"there are: {', '.join(names)}"
            what = "belongs to no account" if table else "is no table"
            self.fault(node.table_span, f'"{node.table}" {what}', hint)
            return None
        way = way_to_owner(self.table, table.owner)
        if way is None:
            self.fault(node.span, *self._nothing_to_ask(table))
            return None
        if node.question == "every" and node.condition is None:
            hint = f"say what has to hold of each: every {table.name} (…)"
            self.fault(node.span, f'"every {table.name}" asks nothing of them, and is always true', hint)
            return None
        condition = None
        if node.condition is not None:
            condition = self.on(table).expect(node.condition, FLAG)
            if condition is None:
                return None
        if node.column or node.question in _OF_A_COLUMN:
            return self.farthest(node, table, condition, way)
        gives = COUNT if node.question == "count" else FLAG
        asked = typed.RowQuery(gives, self.text(node), node.question, table.name, condition)
        return project_to_row(way, asked, asked.text)

    def farthest(
        self, node: tree.RowQuery, table: Table, condition: Typed | None, way: tuple[Table, ...]
    ) -> Typed | None:
        """`latest factor.last-used (…)`: the greatest instant of a column among the rows that pass."""
        instants = [column.name for column in table.columns if column.kind is Kind.INSTANT]
        if node.question not in _OF_A_COLUMN:
            hint = f"latest {node.table}.{node.column}" if node.column in instants else f"write {node.table}"
            self.fault(node.table_span, f'"{node.question}" asks about rows, not about one column', hint)
            return None
        if node.column not in instants:
            wrong = (
                f'"{node.column}" is no instant of a {table.name}'
                if node.column
                else "it asks for an instant"
            )
            hint = did_you_mean(node.column, instants) or f"there are: {', '.join(instants)}"
            self.fault(node.table_span, wrong, hint)
            return None
        column = table.column(node.column)
        assert column is not None
        fact = typed.Fact(INSTANT, column.name, table.name, column)
        known: Typed = typed.Known(FLAG, f"{column.name} is known", fact, negated=False)
        if condition is not None:
            known = typed.BoolOp(FLAG, condition.text, "and", (condition, known))
        asked = typed.RowQuery(INSTANT, self.text(node), node.question, table.name, known, column)
        return project_to_row(way, asked, asked.text)

    def _nothing_to_ask(self, table: Table) -> tuple[str, str]:
        subject = article(self.table.name)
        if self.table is PERSON:
            return (
                f"{subject} has {table.name}s only through accounts",
                f"some account (some {table.name} (…))",
            )
        return f"{subject} belongs to no {table.owner}: there is no {table.name} to ask about", ""
