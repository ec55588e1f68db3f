"""What every part of the checker rests on: where faults go, and how a node is resolved."""

from __future__ import annotations

from abc import ABC, abstractmethod
from typing import Self

from keymallet.core.facts.model import Column, Table
from keymallet.core.language import tree
from keymallet.core.language.scope import Book, Written
from keymallet.core.language.tree import Fault, Node, Span
from keymallet.core.language.typed import Typed, ValueType


class CheckerBase(ABC):
    """Checks one expression on the rows of one table."""

    def __init__(self, written: Written, table: Table, book: Book, *, defining: str = "") -> None:
        self.written = written
        self.table = table
        self.book = book
        self.defining = defining  # inside a column's own definition its name is what the source said

    def fault(self, span: Span, message: str, hint: str = "") -> None:
        """Report a fault; the node it stands on counts as None from here on."""
        self.written.report(Fault(span, message, hint))

    def text(self, node: Node) -> str:
        """The expression's own words for a node."""
        return " ".join(self.written.text[node.span.start : node.span.end].split())

    def on(self, table: Table, written: Written | None = None) -> Self:
        """A checker for the rows of another table, or for another expression."""
        return type(self)(
            written or self.written, table, self.book, defining=self.defining if written is None else ""
        )

    @abstractmethod
    def defined(self, column: Column) -> Typed:
        """The typed definition of a derived column of this table."""

    @abstractmethod
    def expect(self, node: Node, wanted: ValueType) -> Typed | None:
        """Resolve a node that has to be of one type."""

    @abstractmethod
    def resolve(self, node: Node, wanted: ValueType | None = None) -> Typed | None:
        """Resolve a node. `wanted` lets a bare name be a word of the set on the other side."""

    @abstractmethod
    def is_none(self, value: Typed) -> Typed:
        """Whether a value is known to be none."""

    @abstractmethod
    def fact(self, node: tree.Name) -> Typed | None:
        """The subject's column of that name."""
