"""Conditions that nothing can ever meet, as far as that shows from how they are written."""

from __future__ import annotations

from itertools import combinations

from keymallet.core.language import typed
from keymallet.core.language.typed import Typed


def never_true(node: Typed) -> bool:
    """Whether a condition can be true of no row at all, whatever its facts.

    Seen are `false`, a condition together with its own negation, and one fact that has to be two different
    things at once. What takes more to see is not claimed: then it is False.
    """
    match node:
        case typed.Const():
            return node.value is False
        case typed.Term():
            return never_true(node.body)
        case typed.Not():
            return isinstance(node.operand, typed.Const) and node.operand.value is True
        case typed.BoolOp(word="and"):
            parts = list(_conjuncts(node))
            return any(map(never_true, parts)) or any(
                _contradict(one, other) or _contradict(other, one) for one, other in combinations(parts, 2)
            )
        case typed.BoolOp():
            return all(map(never_true, node.members))
        case _:
            return False


def _conjuncts(node: Typed) -> list[Typed]:
    """What has to hold together, through nested `and`; of a term, itself and what it stands for."""
    if isinstance(node, typed.Term):
        return [node, *_conjuncts(node.body)]
    if isinstance(node, typed.BoolOp) and node.word == "and":
        return [part for member in node.members for part in _conjuncts(member)]
    return [node]


def _contradict(one: Typed, other: Typed) -> bool:
    """Whether two conditions can not both be true."""
    if isinstance(other, typed.Not) and other.operand == one:
        return True
    both_equal = (
        isinstance(one, typed.Compare)
        and isinstance(other, typed.Compare)
        and one.operator == other.operator == "="
        and one.left == other.left
    )
    if not both_equal:
        return False
    assert isinstance(one, typed.Compare)
    assert isinstance(other, typed.Compare)
    values = (one.right, other.right)
    return all(isinstance(value, typed.Const) for value in values) and values[0] != values[1]
