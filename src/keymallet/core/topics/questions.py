"""A topic's questions, read with the organisation's own limits and terms at hand."""

from __future__ import annotations

from keymallet.core.facts.model import Kind, Table
from keymallet.core.language import typed
from keymallet.core.language.typed import Typed
from keymallet.core.rulebook.model import Rulebook
from keymallet.core.rulebook.question import read_condition, read_value

QuestionsByName = dict[str, tuple[str, Typed]]


class Questions:
    """Collects questions by name, each with the table it is asked of."""

    def __init__(self, book: Rulebook) -> None:
        self.book = book
        self.asked: QuestionsByName = {}

    def conditions(self, table: Table, **texts: str) -> Questions:
        """Questions that are answered by yes, no or unknown."""
        for name, text in texts.items():
            self.asked[name] = (table.name, read_condition(text, table, self.book, f"the topic's {name}"))
        return self

    def values(self, table: Table, **texts: str) -> Questions:
        """Questions that are answered by a value of any kind."""
        for name, text in texts.items():
            self.asked[name] = (table.name, read_value(text, table, self.book, f"the topic's {name}"))
        return self

    def columns(self, table: Table, *names: str, prefix: str = "") -> Questions:
        """Facts as they stand, under their own names."""
        for name in names:
            value = read_value(name, table, self.book, f"the fact {name}")
            self.asked[prefix + name] = (table.name, value)
        return self

    def limit(self, table: Table, name: str, otherwise: str, under: str = "") -> Questions:
        """A limit of the book, which may be another for some; where the book has none, something else."""
        text = f"limit.{name}" if has_limit(self.book, name, Kind.SPAN) else otherwise
        return self.values(table, **{under or name: text})


def has_limit(book: Rulebook, name: str, kind: Kind, *, for_all: bool = False) -> bool:
    """Whether the book has a limit of that name and kind; with `for_all`, the same one for everybody.

    What a book calls so may be of another kind: then it is another thing, and not what a topic asks for.
    """
    limit = book.limits.get(name)
    one_value = isinstance(limit, typed.Const) and limit.type.kind is kind
    return one_value and not (for_all and name in book.populations)
