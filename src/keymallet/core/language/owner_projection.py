"""What is asked of an owner, taken over to the row that belongs to it."""

from __future__ import annotations

from keymallet.core.facts.model import Kind, Table
from keymallet.core.language import typed
from keymallet.core.language.functions import FUNCTIONS, InTime
from keymallet.core.language.typed import Typed


def project_to_row(way: tuple[Table, ...], body: Typed, text: str) -> Typed:
    """Something about an owner, taken over to the row that the way to it starts from."""
    for table in reversed(way):
        body = _project_one_hop(table, body, text)
    return body


def _project_one_hop(table: Table, body: Typed, text: str) -> Typed:
    """The expression about the owner of a row of `table`, as an expression on that row.

    Facts of the owner are taken over, but not what is worked out from them and the instant judged at:
    `age(person.joins)` becomes the age, on the row, of what is taken over, so that the row knows by itself
    when it changes.
    """
    match body:
        case typed.At() | typed.Const():
            return body
        case typed.Term() if body.type.kind in (Kind.INSTANT, Kind.SPAN, Kind.COUNT):
            return typed.Term(body.type, text, body.name, _project_one_hop(table, body.body, body.body.text))
        case typed.Call() if FUNCTIONS[body.function].in_time is not InTime.STILL:
            arguments = tuple(_project_one_hop(table, side, side.text) for side in body.arguments)
            nones = tuple(_project_one_hop(table, none, none.text) for none in body.nones)
            return typed.Call(body.type, text, body.function, arguments, nones)
        case typed.AddSub():
            sides = (_project_one_hop(table, side, side.text) for side in (body.left, body.right))
            return typed.AddSub(body.type, text, body.operator, *sides)
        case _:
            return typed.OfOwner(body.type, text, table.name, body)
