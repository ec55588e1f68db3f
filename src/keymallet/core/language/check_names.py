"""Names: facts, terms, limits, what belongs to a row; and what was probably meant by one that is none."""

from __future__ import annotations

from keymallet.core.base.nearest import article, did_you_mean
from keymallet.core.facts.declaration import ACCOUNT, PERSON, SETTING, TABLES, tables_of_account, way_to_owner
from keymallet.core.facts.model import Kind, Table
from keymallet.core.language import tree, typed
from keymallet.core.language.check_base import CheckerBase
from keymallet.core.language.functions import FUNCTIONS
from keymallet.core.language.owner_projection import project_to_row
from keymallet.core.language.typed import FLAG, INSTANT, Typed, ValueType

_OWNERS = (ACCOUNT.name, PERSON.name)


MOST_PARTS = 20_000
"""So many nodes a term may have, with the terms in it worked out."""


class ChecksNames(CheckerBase):
    """Resolves names: columns, limits, terms, facts of an owner, bare words; and says what may be meant."""

    def name(self, node: tree.Name, wanted: ValueType | None) -> Typed | None:
        """Resolve a name: a word of the wanted set, a limit, a fact, a term, `at`."""
        if wanted is not None and node.text in wanted.words:
            return typed.Const(ValueType(Kind.WORD, wanted.words), node.text, node.text)
        head, _, rest = node.text.partition(".")
        if rest and head == "limit":
            return self.limit(node, rest)
        if rest and head == SETTING.name:
            return self.setting(node, rest)
        if rest and head in _OWNERS:
            return self.of_owner(node, TABLES[head], rest)
        if rest:
            hint = 'there are "account.", "person.", "setting." and "limit."'
            self.fault(node.span, f'there is no "{head}." to ask for "{rest}"', hint)
            return None
        if node.text == "at":
            return self.fact(node) or typed.At(INSTANT, "at")
        resolved = self.fact(node) or self.term(node)
        if resolved is None:
            self.unknown_name(node, wanted)
        return resolved

    def fact(self, node: tree.Name) -> Typed | None:
        """The subject's column of that name."""
        column = self.table.column(node.text)
        if column is None:
            return None
        fact = typed.Fact(ValueType(column.kind, column.words), node.text, self.table.name, column)
        if not column.definition or self.defining == column.name:
            return fact
        return typed.Derived(fact.type, node.text, fact, self.defined(column))

    def term(self, node: tree.Name) -> Typed | None:
        """The rulebook's term of that name, resolved for this table; once for each table."""
        book = self.book
        if node.text not in book.terms:
            return None
        book.used_terms.add(node.text)
        if node.text in book.resolving:
            circle = [*book.resolving[book.resolving.index(node.text) :], node.text]
            self.fault(node.span, f"terms go round in a circle: {' -> '.join(circle)}")
            return typed.Faulty(FLAG, node.text)
        key = (node.text, self.table.name)
        if key not in book.resolved:
            book.resolving.append(node.text)
            written = book.terms[node.text]
            body = self.on(self.table, written).resolve(written.node)
            book.resolving.pop()
            if body is not None and self._size(body) > MOST_PARTS:
                # Whoever uses a term copies it: terms that use each other twice double with each step.
                said = f'the term "{node.text}" works out to more than {MOST_PARTS:,} parts'
                self.fault(node.span, said, "use fewer terms in it, or each of them once")
                body = None
            book.resolved[key] = body
        body = book.resolved[key]
        # A term with faults has reported them where it stands: nothing more is said of its uses.
        return (
            typed.Faulty(FLAG, node.text)
            if body is None
            else typed.Term(body.type, node.text, node.text, body)
        )

    def _size(self, node: Typed) -> int:
        """How many nodes an expression has, with the terms in it worked out."""
        if not isinstance(node, typed.Term):
            return 1 + sum(map(self._size, node.parts))
        known = self.book.sizes
        if id(node.body) not in known:
            known[id(node.body)] = self._size(node.body)
        return 1 + known[id(node.body)]

    def limit(self, node: tree.Name, name: str) -> Typed | None:
        """The rulebook's limit of that name."""
        limit = self.book.limits.get(name)
        if name in self.book.faulty_limits:
            return None  # reported where it stands: its uses are no faults of their own
        if limit is None:
            hint = did_you_mean(name, self.book.limits) or f"set it under [limits]: {name} = …"
            self.fault(node.span, f'no limit "{name}" is set', hint)
            return None
        self.book.used_limits.add(name)
        if name in self.book.populations and isinstance(limit, typed.Const):
            return self.per_population(node, name, limit)
        return limit

    def per_population(self, node: tree.Name, name: str, default: typed.Const) -> Typed:
        """A limit with values of its own for some accounts; the plain one where no account is judged."""
        way = way_to_owner(self.table, ACCOUNT.name)
        if way is None:
            return default
        checker = self.on(ACCOUNT)
        populations, values = [], []
        for population, value in self.book.populations[name]:
            term = checker.term(tree.Name(node.span, population))
            assert term is not None, "populations are terms: held when the book is read"
            populations.append(project_to_row(way, term, population))
            values.append(value)
        return typed.PerPopulation(default.type, node.text, name, default, tuple(populations), tuple(values))

    def setting(self, node: tree.Name, name: str) -> Typed | None:
        """`setting.x`: what is in force, in its own source, for the account that the row is or belongs to."""
        way = way_to_owner(self.table, ACCOUNT.name)
        if way is None:
            hint = f'write "{name}"' if self.table is SETTING else ""
            self.fault(
                node.span, f"settings are in force for accounts, not for {article(self.table.name)}", hint
            )
            return None
        checker = self.on(SETTING)
        inner = tree.Name(node.span, name)
        body = checker.fact(inner)
        if body is None:
            checker.unknown_name(inner, None)
            return None
        in_force = typed.OfOwner(body.type, node.text, ACCOUNT.name, body, SETTING.name)
        return project_to_row(way, in_force, node.text)

    def of_owner(self, node: tree.Name, owner: Table, name: str) -> Typed | None:
        """`account.x`, `person.x`: a fact or term of the account or person that the row belongs to."""
        way = way_to_owner(self.table, owner.name)
        if not way:
            self.fault(node.span, *self._no_way(owner, name))
            return None
        inner = tree.Name(node.span, name)
        checker = self.on(owner)
        body = checker.fact(inner) or checker.term(inner)
        if body is None:
            checker.unknown_name(inner, None)
            return None
        return project_to_row(way, body, node.text)

    def _no_way(self, owner: Table, name: str) -> tuple[str, str]:
        if self.table is owner:
            return f"{article(owner.name)} is already the {owner.name}", f'write "{name}"'
        if self.table.name == owner.owner:
            message = f"{article(self.table.name)} may have several {owner.name}s"
            return message, f"some {owner.name} ({name} …)"
        return f"{article(self.table.name)} belongs to no {owner.name}", ""

    def unknown_name(self, node: tree.Name, wanted: ValueType | None) -> None:
        """Say that a name is nothing, with the nearest thing that is something."""
        name = node.text
        if wanted is not None and wanted.words:
            hint = did_you_mean(name, wanted.words) or f"there are: {', '.join(wanted.words)}"
            self.fault(node.span, f'"{name}" is none of the words it can be', hint)
            return
        near = did_you_mean(name, [*self.table.names, *self.book.terms])
        if name in ACCOUNT.names and self.table.of_account:
            near = f'did you mean "account.{name}"?'
        elif name in ACCOUNT.names and self.table is PERSON:
            near = f"an account has one: some account ({name} …)"
        elif name in self.book.limits:
            near = f'did you mean "limit.{name}"?'
        elif name in FUNCTIONS and not FUNCTIONS[name].internal:
            near = f"it is a function: {name}(…)"
        elif self._reads_as_difference(name):
            near = "a minus has spaces around it"
        elif (
            not near
            and self.table.name != PERSON.name
            and (owner := next((table for table in tables_of_account() if table.column(name)), None))
        ):
            near = f'{article(owner.name)} has one: each = "{owner.name}", or some {owner.name} (…)'
        elif wanted is not None and wanted.kind in (Kind.TEXT, Kind.WORDS):
            near = near or f"text stands in quotes: '{name}'"
        self.fault(node.span, f'{article(self.table.name)} has no column "{name}"', near)

    def _reads_as_difference(self, name: str) -> bool:
        pieces = name.split("-")
        halves = (("-".join(pieces[:cut]), "-".join(pieces[cut:])) for cut in range(1, len(pieces)))
        return any(self.table.column(left) and self.table.column(right) for left, right in halves)
