"""Values: functions, sums and differences."""

from __future__ import annotations

from keymallet.core.base.nearest import did_you_mean
from keymallet.core.facts.model import Kind
from keymallet.core.language import tree, typed
from keymallet.core.language.check_base import CheckerBase
from keymallet.core.language.functions import FUNCTIONS, Function
from keymallet.core.language.typed import COUNT, INSTANT, SPAN, Typed, ValueType


class ChecksValues(CheckerBase):
    """Resolves what is worked out."""

    def call(self, node: tree.Call) -> Typed | None:
        """A function with its argument."""
        function = FUNCTIONS.get(node.function)
        if function is None or (function.internal and not self.defining):
            public = [name for name, known in FUNCTIONS.items() if not known.internal]
            hint = did_you_mean(node.function, public) or f"there are: {', '.join(public)}"
            self.fault(node.function_span, f'there is no function "{node.function}"', hint)
            return None
        if function.many:
            return self.call_of_many(node, function)
        if len(node.arguments) != 1:
            self.fault(node.span, f"{function.name} takes one value, not {len(node.arguments)}")
            return None
        argument = self.resolve(node.arguments[0])
        if argument is None:
            return None
        if argument.type.kind not in function.takes:
            takes = " or ".join(str(ValueType(kind)) for kind in function.takes)
            self.fault(node.arguments[0].span, f"{function.name} takes {takes}, not {argument.type}")
            return None
        return typed.Call(function.gives, self.text(node), function.name, (argument,))

    def call_of_many(self, node: tree.Call, function: Function) -> Typed | None:
        """A function of several values of one kind, which gives one of them."""
        arguments = [self.resolve(argument) for argument in node.arguments]
        if len(arguments) < 2:
            self.fault(node.span, f"{function.name} takes two values or more")
            return None
        known = [argument for argument in arguments if argument is not None]
        if len(known) < len(arguments):
            return None
        # All of one kind: of an instant and a number neither is the greater.
        for argument, written in zip(known, node.arguments, strict=True):
            one_set = argument.type.words == known[0].type.words
            one_kind_of_value = argument.type.kind is known[0].type.kind and one_set
            if argument.type.kind not in function.takes or not one_kind_of_value:
                takes = " or ".join(str(ValueType(kind)) for kind in function.takes)
                one_kind = known[0].type if known[0].type.kind in function.takes else takes
                self.fault(written.span, f"{function.name} takes {one_kind} here, not {argument.type}")
                return None
        nones = tuple(map(self.is_none, known)) if function.passes_over_none else ()
        return typed.Call(known[0].type, self.text(node), function.name, tuple(known), nones)

    def add_sub(self, node: tree.AddSub) -> Typed | None:
        """`+` and `-`: which types go together is the table below."""
        left, right = self.resolve(node.left), self.resolve(node.right)
        if left is None or right is None:
            return None
        gives = _SUMS.get((node.operator, left.type.kind, right.type.kind))
        if gives is None:
            what = "added" if node.operator == "+" else "subtracted"
            self.fault(node.span, f"{right.type} cannot be {what} here: the left side is {left.type}")
            return None
        return typed.AddSub(gives, self.text(node), node.operator, left, right)


_SUMS: dict[tuple[str, Kind, Kind], ValueType] = {
    ("-", Kind.INSTANT, Kind.INSTANT): SPAN,
    ("-", Kind.INSTANT, Kind.SPAN): INSTANT,
    ("+", Kind.INSTANT, Kind.SPAN): INSTANT,
    ("+", Kind.SPAN, Kind.INSTANT): INSTANT,
    ("+", Kind.SPAN, Kind.SPAN): SPAN,
    ("-", Kind.SPAN, Kind.SPAN): SPAN,
    ("+", Kind.COUNT, Kind.COUNT): COUNT,
    ("-", Kind.COUNT, Kind.COUNT): COUNT,
}
