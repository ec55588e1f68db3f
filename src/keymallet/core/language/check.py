"""Names and types: syntax tree to typed tree, with every fault found, not only the first."""

from __future__ import annotations

from keymallet.core.facts.model import Column, Kind, Table
from keymallet.core.language import tree, typed
from keymallet.core.language.check_asks import ChecksAsks
from keymallet.core.language.check_names import ChecksNames
from keymallet.core.language.check_tests import ChecksTests
from keymallet.core.language.check_values import ChecksValues
from keymallet.core.language.parse import parse
from keymallet.core.language.scope import Book, Written
from keymallet.core.language.tree import Fault, Node
from keymallet.core.language.typed import FLAG, Typed, ValueType, type_of


def check_flag(written: Written, table: Table, book: Book) -> Typed | None:
    """Resolve an expression that has to be true or false; None if it has faults (all reported)."""
    return _Checker(written, table, book).expect(written.node, FLAG)


def check_value(written: Written, table: Table, book: Book) -> Typed | None:
    """Resolve an expression of any type; None if it has faults (all reported)."""
    return _Checker(written, table, book).resolve(written.node)


def _define(column: Column, table: Table) -> Typed:
    node = parse(column.definition)
    if isinstance(node, Fault):
        raise AssertionError(f"{table.name}.{column.name}: {node.message}")
    faults: list[Fault] = []
    written = Written(column.definition, node, faults.append)
    result = _Checker(written, table, Book(), defining=column.name).expect(node, FLAG)
    if result is None:
        raise AssertionError(f"{table.name}.{column.name}: {faults[0].message}")
    return result


_DEFINITIONS: dict[tuple[str, str], Typed] = {}


def definition(column: Column, table: Table) -> Typed:
    """The typed definition of a derived column, worked out once."""
    key = (table.name, column.name)
    if key not in _DEFINITIONS:
        _DEFINITIONS[key] = _define(column, table)
    return _DEFINITIONS[key]


class _Checker(ChecksNames, ChecksTests, ChecksValues, ChecksAsks):
    """The whole checker: what stands at a node decides which part of it is asked."""

    def defined(self, column: Column) -> Typed:
        """The typed definition of a derived column of this table."""
        return definition(column, self.table)

    def expect(self, node: Node, wanted: ValueType) -> Typed | None:
        """Resolve a node that has to be of one type."""
        resolved = self.resolve(node, wanted)
        if resolved is not None and resolved.type.kind is not wanted.kind:
            hint = ""
            if wanted is FLAG and resolved.type.kind in (Kind.SPAN, Kind.COUNT, Kind.INSTANT):
                hint = (
                    "compare it with something, like <= 90d"
                    if resolved.type.kind is Kind.SPAN
                    else "compare it with something"
                )
            elif wanted is FLAG and resolved.type.kind is Kind.WORD:
                hint = f"compare it, like {self.text(node)} = {resolved.type.words[0]}"
            self.fault(node.span, f'"{self.text(node)}" is {resolved.type}, not {wanted}', hint)
            return None
        return resolved

    def resolve(self, node: Node, wanted: ValueType | None = None) -> Typed | None:
        """Resolve a node. `wanted` lets a bare name be a word of the set on the other side."""
        match node:
            case tree.Literal():
                return self.literal(node)
            case tree.Name():
                return self.name(node, wanted)
            case tree.Not():
                operand = self.expect(node.operand, FLAG)
                return operand and typed.Not(FLAG, self.text(node), operand)
            case tree.BoolOp():
                # The same said twice is said once: it is the same for everybody.
                members = [self.expect(part, FLAG) for part in dict.fromkeys(node.parts)]
                whole = tuple(member for member in members if member is not None)
                return (
                    typed.BoolOp(FLAG, self.text(node), node.word, whole)
                    if len(whole) == len(members)
                    else None
                )
            case tree.Compare():
                return self.compare(node)
            case tree.Within():
                return self.within(node)
            case tree.Includes():
                return self.includes(node)
            case tree.Pattern():
                return self.pattern(node)
            case tree.Known():
                return self.known(node)
            case tree.Call():
                return self.call(node)
            case tree.AddSub():
                return self.add_sub(node)
            case tree.RowQuery():
                return self.row_query(node)
            case tree.ListOf():
                self.fault(node.span, "a list can stand only after in, includes any of or includes all of")
                return None
            case _:
                raise AssertionError(node)

    def literal(self, node: tree.Literal) -> Typed:
        """Give a literal its type."""
        return typed.Const(type_of(node.value), self.text(node), node.value)
