"""Tests: comparisons, lists, patterns, and whether a fact is known; which types go together."""

from __future__ import annotations

from datetime import datetime, timedelta

from keymallet.core.base.nearest import did_you_mean
from keymallet.core.facts.declaration import ACCOUNT, SETTING, TABLES
from keymallet.core.facts.model import Kind, Table
from keymallet.core.language import tree, typed
from keymallet.core.language.check_base import CheckerBase
from keymallet.core.language.owner_projection import project_to_row
from keymallet.core.language.patterns import like_to_regex, regex_fault
from keymallet.core.language.tree import Node
from keymallet.core.language.typed import FLAG, TEXT, Typed, ValueType

_EMPTY = (
    "nothing is in an empty list: this is the same for everybody",
    "name what it holds, like [otp, passkey]",
)


class ChecksTests(CheckerBase):
    """Resolves what is true or false."""

    def compare(self, node: tree.Compare) -> Typed | None:
        """Two sides of one type; `<` and its like only where there is an order."""
        left, right = self.pair(node.left, node.right)
        if left is None or right is None:
            return None
        if not self.agree(node.left, left, node.right, right):
            return None
        if node.operator not in ("=", "!=") and not left.type.kind.is_ordered:
            self.fault(
                node.span, f'"{node.operator}" needs an order, and {left.type} has none', 'use "=" or "!="'
            )
            return None
        if left.type.kind is Kind.WORDS:
            self.fault(
                node.span, "lists are not compared", 'use "includes", "includes any of" or "includes all of"'
            )
            return None
        return typed.Compare(FLAG, self.text(node), node.operator, left, right)

    def pair(self, left: Node, right: Node) -> tuple[Typed | None, Typed | None]:
        """Resolve two sides, each with the other's set of words in mind."""
        if isinstance(left, tree.Name) and not isinstance(right, tree.Name):
            second = self.resolve(right)
            return self.resolve(left, second.type if second else None), second
        first = self.resolve(left)
        if first is None and isinstance(right, tree.Name):
            return None, None  # without the left side it cannot be told what a bare name stands for
        return first, self.resolve(right, first.type if first else None)

    def agree(self, left_node: Node, left: Typed, right_node: Node, right: Typed) -> bool:
        """Whether two values can be compared; reports it if they cannot."""
        if left.type.kind is right.type.kind and (
            left.type.kind is not Kind.WORD or left.type.words == right.type.words
        ):
            return True
        for node, value, other in ((right_node, right, left), (left_node, left, right)):
            if other.type.kind is Kind.WORD and isinstance(value, typed.Const) and value.type is TEXT:
                words = other.type.words
                hint = (
                    f"write it bare: {value.value}"
                    if value.value in words
                    else did_you_mean(str(value.value), words)
                )
                self.fault(node.span, f"words of a closed set stand without quotes: {', '.join(words)}", hint)
                return False
        hint = ""
        if {left.type.kind, right.type.kind} == {Kind.INSTANT, Kind.SPAN}:
            instant = left_node if left.type.kind is Kind.INSTANT else right_node
            hint = f"how long ago is age({self.text(instant)}), how long still until({self.text(instant)})"
        if {left.type.kind, right.type.kind} == {Kind.COUNT, Kind.SPAN}:
            hint = "a length of time has a unit: 90d, 8h, 30min"
        self.fault(
            right_node.span,
            f'"{self.text(left_node)}" is {left.type} and "{self.text(right_node)}" is {right.type}',
            hint,
        )
        return False

    def choices(self, node: Node, of: ValueType) -> typed.ConstList | None:
        """A list of constants that fit what they are held against, or a limit that is one."""
        if isinstance(node, tree.Name):
            limit = self.resolve(node)
            if limit is None:
                return None
            if limit.type.kind is Kind.WORDS and not isinstance(limit, typed.ConstList):
                turned = f"turn it round: {node.text} includes …, or: not ({node.text} includes …)"
                self.fault(
                    node.span, f'"in" wants a fixed list; "{node.text}" is another for each row', turned
                )
                return None
            if not isinstance(limit, typed.ConstList):
                self.fault(node.span, f'"{node.text}" is no list', "a list is written [otp, passkey]")
                return None
            return self.fitting(node, limit, of)
        if not isinstance(node, tree.ListOf):
            raise AssertionError(node)
        if not node.items:
            self.fault(node.span, *_EMPTY)
            return None
        element = ValueType(Kind.WORD if of.words else Kind.TEXT, of.words) if of.kind is Kind.WORDS else of
        values: list[str | int | float] = []
        for item in node.items:
            value = self.resolve(item, element)
            if value is None:
                continue
            if not isinstance(value, typed.Const) or isinstance(value.value, bool | timedelta | datetime):
                self.fault(item.span, "a list holds words, texts or numbers")
            # Only its type is asked of the left side here: any value of that type does.
            elif self.agree(node, typed.Const(element, self.text(node), ""), item, value):
                values.append(value.value)
        if len(values) < len(node.items):
            return None
        return typed.ConstList(of, self.text(node), tuple(values))

    def fitting(self, node: Node, limit: typed.ConstList, of: ValueType) -> typed.ConstList | None:
        """Hold the members of a list from [limits] against the closed set they are compared with."""
        if not limit.values:
            self.fault(node.span, *_EMPTY)
            return None
        strange = [str(value) for value in limit.values if of.words and value not in of.words]
        if strange:
            hint = did_you_mean(strange[0], of.words) or f"there are: {', '.join(of.words)}"
            self.fault(node.span, f'"{strange[0]}" in that list is none of the words it can be', hint)
            return None
        numeric = of.kind is Kind.COUNT
        if any(isinstance(value, str) == numeric for value in limit.values):
            self.fault(node.span, f'"{self.text(node)}" does not hold what it is compared with: {of}')
            return None
        return limit

    def within(self, node: tree.Within) -> Typed | None:
        """`x in [..]`."""
        operand = self.resolve(node.operand)
        if operand is None:
            return None
        if operand.type.kind not in (Kind.WORD, Kind.TEXT, Kind.COUNT):
            hint = 'use "includes any of"' if operand.type.kind is Kind.WORDS else ""
            self.fault(
                node.operand.span, f'"in" asks for a word, a text or a number, not {operand.type}', hint
            )
            return None
        choices = self.choices(node.choices, operand.type)
        return choices and typed.Within(FLAG, self.text(node), operand, choices, node.negated)

    def includes(self, node: tree.Includes) -> Typed | None:
        """`list has x`, `list includes any of [..]`, `list includes all of [..]`."""
        operand = self.resolve(node.operand)
        if operand is None:
            return None
        if operand.type.kind is not Kind.WORDS:
            hint = (
                'use "="'
                if operand.type.kind is Kind.WORD
                else "use \"like '*…*'\""
                if operand.type.kind is Kind.TEXT
                else ""
            )
            self.fault(node.operand.span, f'"includes" asks for a list, not {operand.type}', hint)
            return None
        if node.mode != "one":
            choices = self.choices(node.wanted, operand.type)
            return choices and typed.Includes(FLAG, self.text(node), operand, node.mode, choices)
        element = ValueType(Kind.WORD, operand.type.words) if operand.type.words else TEXT
        wanted = self.resolve(node.wanted, element)
        if wanted is None:
            return None
        # A member of the list, of which only the type matters.
        one = typed.Const(element, self.text(node.operand), "")
        if not self.agree(node.operand, one, node.wanted, wanted):
            return None
        return typed.Includes(FLAG, self.text(node), operand, "one", wanted)

    def pattern(self, node: tree.Pattern) -> Typed | None:
        """`text like 'adm-*'`, `text matches '^adm'`."""
        operand = self.resolve(node.operand)
        if operand is None:
            return None
        if operand.type.kind is not Kind.TEXT:
            hint = 'use "=" or "in"' if operand.type.kind is Kind.WORD else ""
            self.fault(node.operand.span, f'"{node.word}" asks for text, not {operand.type}', hint)
            return None
        regex = node.pattern if node.word == "matches" else like_to_regex(node.pattern)
        wrong = regex_fault(regex)
        if wrong:
            self.fault(node.pattern_span, f"the pattern cannot be read: {wrong}")
            return None
        return typed.Pattern(FLAG, self.text(node), operand, node.word, node.pattern, regex)

    def known(self, node: tree.Known) -> Typed | None:
        """`fact is known`."""
        operand = self.resolve(node.operand)
        if operand is None:
            return None
        inner, way, to_setting = _what_is_asked(operand)
        if isinstance(inner, typed.RowQuery) and inner.column is not None:
            # The condition of a latest or earliest one says already that there is one.
            question = "no" if node.negated else "some"
            there_is = typed.RowQuery(FLAG, self.text(node), question, inner.table, inner.condition)
            return project_to_row(way, there_is, there_is.text)
        if not isinstance(inner, typed.Fact | typed.Derived):
            self.fault(node.operand.span, "only a fact can be known or unknown")
            return None
        return _known(inner, way, to_setting, self.text(node), node.negated)

    def is_none(self, value: Typed) -> Typed:
        """Whether a value is known to be none: of a fact, that there is none; of anything else, never."""
        inner, way, to_setting = _what_is_asked(value)
        if not isinstance(inner, typed.Fact | typed.Derived):
            return typed.Const(FLAG, "", False)
        return _known(inner, way, to_setting, f"{value.text} is unknown", negated=True)


def _what_is_asked(operand: Typed) -> tuple[Typed, tuple[Table, ...], bool]:
    """The fact behind what is taken over from owners, the way to it, and whether it is one of settings."""
    way: list[Table] = []
    to_setting = False
    while isinstance(operand, typed.OfOwner):
        to_setting = to_setting or bool(operand.to)
        way += [] if operand.to else [TABLES[operand.table]]
        operand = operand.body
    return operand, tuple(way), to_setting


def _known(
    fact: typed.Fact | typed.Derived, way: tuple[Table, ...], to_setting: bool, text: str, negated: bool
) -> Typed:
    known: Typed = typed.Known(FLAG, text, fact, negated)
    if to_setting:
        known = typed.OfOwner(FLAG, text, ACCOUNT.name, known, SETTING.name)
    return project_to_row(way, known, text)
