"""Names and types: syntax tree to typed tree, with every fault found, not only the first."""

from __future__ import annotations

from datetime import datetime, timedelta

from keymallet.core import facts
from keymallet.core.facts import Column, Kind, Table
from keymallet.core.language import tree, typed
from keymallet.core.language.functions import FUNCTIONS, Function
from keymallet.core.language.parse import parse
from keymallet.core.language.patterns import like_to_regex, regex_fault
from keymallet.core.language.scope import Book, Written
from keymallet.core.language.tree import Fault, Node, Span
from keymallet.core.language.typed import COUNT, FLAG, INSTANT, SPAN, TEXT, Typed, ValueType, type_of
from keymallet.core.nearest import article, did_you_mean


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


class _Checker:
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

    def expect(self, node: Node, wanted: ValueType) -> Typed | None:
        """Resolve a node that has to be of one type."""
        found = self.resolve(node, wanted)
        if found is not None and found.type.kind is not wanted.kind:
            hint = ""
            if wanted is FLAG and found.type.kind in (Kind.SPAN, Kind.COUNT, Kind.INSTANT):
                hint = (
                    "compare it with something, like <= 90d"
                    if found.type.kind is Kind.SPAN
                    else "compare it with something"
                )
            elif wanted is FLAG and found.type.kind is Kind.WORD:
                hint = f"compare it, like {self.text(node)} = {found.type.words[0]}"
            self.fault(node.span, f'"{self.text(node)}" is {found.type}, not {wanted}', hint)
            return None
        return found

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
            case tree.Junction():
                members = [self.expect(part, FLAG) for part in node.parts]
                whole = tuple(member for member in members if member is not None)
                return (
                    typed.Junction(FLAG, self.text(node), node.word, whole)
                    if len(whole) == len(members)
                    else None
                )
            case tree.Compare():
                return self.compare(node)
            case tree.Within():
                return self.within(node)
            case tree.Has():
                return self.has(node)
            case tree.Pattern():
                return self.pattern(node)
            case tree.Known():
                return self.known(node)
            case tree.Call():
                return self.call(node)
            case tree.Shift():
                return self.shift(node)
            case tree.Ask():
                return self.ask(node)
            case tree.ListOf():
                self.fault(node.span, "a list can stand only after in, has any or has all")
                return None
            case _:
                raise AssertionError(node)

    def literal(self, node: tree.Literal) -> Typed:
        """Give a literal its type."""
        return typed.Const(type_of(node.value), self.text(node), node.value)

    # names

    def name(self, node: tree.Name, wanted: ValueType | None) -> Typed | None:
        """Resolve a name: a word of the wanted set, a limit, a fact, a term, `at`."""
        if wanted is not None and node.text in wanted.words:
            return typed.Const(ValueType(Kind.WORD, wanted.words), node.text, node.text)
        head, _, rest = node.text.partition(".")
        if rest and head == "limit":
            return self.limit(node, rest)
        if rest and head == facts.SETTING.name:
            return self.setting(node, rest)
        if rest and head in _OWNERS:
            return self.of_owner(node, facts.TABLES[head], rest)
        if rest:
            hint = 'there are "account.", "person.", "setting." and "limit."'
            self.fault(node.span, f'there is no "{head}." to ask for "{rest}"', hint)
            return None
        if node.text == "at":
            return self.fact(node) or typed.At(INSTANT, "at")
        found = self.fact(node) or self.term(node)
        if found is None:
            self.unknown_name(node, wanted)
        return found

    def fact(self, node: tree.Name) -> Typed | None:
        """The subject's column of that name."""
        column = self.table.column(node.text)
        if column is None:
            return None
        fact = typed.Fact(ValueType(column.kind, column.words), node.text, self.table.name, column)
        if not column.definition or self.defining == column.name:
            return fact
        return typed.Derived(fact.type, node.text, fact, definition(column, self.table))

    def term(self, node: tree.Name) -> Typed | None:
        """The rulebook's term of that name, resolved for this table; once for each table."""
        book = self.book
        if node.text not in book.terms:
            return None
        book.used_terms.add(node.text)
        if node.text in book.resolving:
            circle = [*book.resolving[book.resolving.index(node.text) :], node.text]
            self.fault(node.span, f"terms go round in a circle: {' -> '.join(circle)}")
            return typed.Const(FLAG, node.text, False)
        key = (node.text, self.table.name)
        if key not in book.resolved:
            book.resolving.append(node.text)
            written = book.terms[node.text]
            body = _Checker(written, self.table, book).resolve(written.node)
            book.resolving.pop()
            book.resolved[key] = body
        body = book.resolved[key]
        # A term with faults has reported them where it stands: nothing more is said of its uses.
        return (
            typed.Const(FLAG, node.text, False)
            if body is None
            else typed.Term(body.type, node.text, node.text, body)
        )

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
        way = facts.way_to_owner(self.table, facts.ACCOUNT.name)
        if way is None:
            return default
        checker = _Checker(self.written, facts.ACCOUNT, self.book)
        populations, values = [], []
        for population, value in self.book.populations[name]:
            term = checker.term(tree.Name(node.span, population))
            assert term is not None, "populations are terms: held when the book is read"
            populations.append(_brought(way, term, population))
            values.append(value)
        return typed.PerPopulation(default.type, node.text, name, default, tuple(populations), tuple(values))

    def setting(self, node: tree.Name, name: str) -> Typed | None:
        """`setting.x`: what is in force, in its own source, for the account that the row is or belongs to."""
        way = facts.way_to_owner(self.table, facts.ACCOUNT.name)
        if way is None:
            hint = f'write "{name}"' if self.table is facts.SETTING else ""
            self.fault(
                node.span, f"settings are in force for accounts, not for {article(self.table.name)}", hint
            )
            return None
        checker = _Checker(self.written, facts.SETTING, self.book)
        inner = tree.Name(node.span, name)
        body = checker.fact(inner)
        if body is None:
            checker.unknown_name(inner, None)
            return None
        in_force = typed.OfOwner(body.type, node.text, facts.ACCOUNT.name, body, facts.SETTING.name)
        return _brought(way, in_force, node.text)

    def of_owner(self, node: tree.Name, owner: Table, name: str) -> Typed | None:
        """`account.x`, `person.x`: a fact or term of the account or person that the row belongs to."""
        way = facts.way_to_owner(self.table, owner.name)
        if not way:
            self.fault(node.span, *self._no_way(owner, name))
            return None
        inner = tree.Name(node.span, name)
        checker = _Checker(self.written, owner, self.book, defining=self.defining)
        body = checker.fact(inner) or checker.term(inner)
        if body is None:
            checker.unknown_name(inner, None)
            return None
        return _brought(way, body, node.text)

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
        if name in facts.ACCOUNT.names and self.table.of_account:
            near = f'did you mean "account.{name}"?'
        elif name in facts.ACCOUNT.names and self.table is facts.PERSON:
            near = f"an account has one: some account ({name} …)"
        elif name in self.book.limits:
            near = f'did you mean "limit.{name}"?'
        elif name in FUNCTIONS and not FUNCTIONS[name].internal:
            near = f"it is a function: {name}(…)"
        elif self._reads_as_difference(name):
            near = "a minus has spaces around it"
        elif (
            not near
            and self.table.name != facts.PERSON.name
            and (owner := next((each for each in facts.tables_of_account() if each.column(name)), None))
        ):
            near = f'{article(owner.name)} has one: each = "{owner.name}", or some {owner.name} (…)'
        elif wanted is not None and wanted.kind in (Kind.TEXT, Kind.WORDS):
            near = near or f"text stands in quotes: '{name}'"
        self.fault(node.span, f'{article(self.table.name)} has no column "{name}"', near)

    def _reads_as_difference(self, name: str) -> bool:
        pieces = name.split("-")
        halves = (("-".join(pieces[:cut]), "-".join(pieces[cut:])) for cut in range(1, len(pieces)))
        return any(self.table.column(left) and self.table.column(right) for left, right in halves)

    # tests

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
            self.fault(node.span, "lists are not compared", 'use "has", "has any" or "has all"')
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
            if not isinstance(limit, typed.ConstList):
                self.fault(node.span, f'"{node.text}" is no list', "a list is written [otp, passkey]")
                return None
            return self.fitting(node, limit, of)
        if not isinstance(node, tree.ListOf):
            raise AssertionError(node)
        element = ValueType(Kind.WORD if of.words else Kind.TEXT, of.words) if of.kind is Kind.WORDS else of
        values: list[str | int | float] = []
        for item in node.items:
            value = self.resolve(item, element)
            if value is None:
                continue
            if not isinstance(value, typed.Const) or isinstance(value.value, bool | timedelta | datetime):
                self.fault(item.span, "a list holds words, texts or numbers")
            elif self.agree(node, typed.Const(element, self.text(node), ""), item, value):
                values.append(value.value)
        if len(values) < len(node.items):
            return None
        return typed.ConstList(of, self.text(node), tuple(values))

    def fitting(self, node: Node, limit: typed.ConstList, of: ValueType) -> typed.ConstList | None:
        """Hold the members of a list from [limits] against the closed set they are compared with."""
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
            hint = 'use "has any"' if operand.type.kind is Kind.WORDS else ""
            self.fault(
                node.operand.span, f'"in" asks for a word, a text or a number, not {operand.type}', hint
            )
            return None
        choices = self.choices(node.choices, operand.type)
        return choices and typed.Within(FLAG, self.text(node), operand, choices, node.negated)

    def has(self, node: tree.Has) -> Typed | None:
        """`list has x`, `list has any [..]`, `list has all [..]`."""
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
            self.fault(node.operand.span, f'"has" asks for a list, not {operand.type}', hint)
            return None
        if node.mode != "one":
            choices = self.choices(node.wanted, operand.type)
            return choices and typed.Has(FLAG, self.text(node), operand, node.mode, choices)
        element = ValueType(Kind.WORD, operand.type.words) if operand.type.words else TEXT
        wanted = self.resolve(node.wanted, element)
        if wanted is None:
            return None
        one = typed.Const(element, self.text(node.operand), "")
        if not self.agree(node.operand, one, node.wanted, wanted):
            return None
        return typed.Has(FLAG, self.text(node), operand, "one", wanted)

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
        inner, way = operand, []
        to_setting = False
        while isinstance(inner, typed.OfOwner):
            to_setting = to_setting or bool(inner.to)
            way += [] if inner.to else [facts.TABLES[inner.table]]
            inner = inner.body
        if isinstance(inner, typed.Ask) and inner.column is not None:
            # The condition of a latest or earliest one says already that there is one.
            question = "no" if node.negated else "some"
            there_is = typed.Ask(FLAG, self.text(node), question, inner.table, inner.condition)
            return _brought(tuple(way), there_is, there_is.text)
        if not isinstance(inner, typed.Fact | typed.Derived):
            self.fault(node.operand.span, "only a fact can be known or unknown")
            return None
        known: Typed = typed.Known(FLAG, self.text(node), inner, node.negated)
        if to_setting:
            known = typed.OfOwner(FLAG, known.text, facts.ACCOUNT.name, known, facts.SETTING.name)
        return _brought(tuple(way), known, known.text)

    # values

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
        for argument, written in zip(known, node.arguments, strict=True):
            if argument.type.kind not in function.takes or argument.type.kind is not known[0].type.kind:
                takes = " or ".join(str(ValueType(kind)) for kind in function.takes)
                one_kind = known[0].type if known[0].type.kind in function.takes else takes
                self.fault(written.span, f"{function.name} takes {one_kind} here, not {argument.type}")
                return None
        return typed.Call(known[0].type, self.text(node), function.name, tuple(known))

    def shift(self, node: tree.Shift) -> Typed | None:
        """`+` and `-`: which types go together is the table below."""
        left, right = self.resolve(node.left), self.resolve(node.right)
        if left is None or right is None:
            return None
        gives = _SUMS.get((node.operator, left.type.kind, right.type.kind))
        if gives is None:
            what = "added" if node.operator == "+" else "taken away"
            self.fault(node.span, f"{right.type} cannot be {what} here: the left side is {left.type}")
            return None
        return typed.Shift(gives, self.text(node), node.operator, left, right)

    def ask(self, node: tree.Ask) -> Typed | None:
        """A question about rows of the account, or about accounts of the person."""
        table = facts.TABLES.get(node.table)
        if table is None or not table.owner:
            names = [table.name for table in facts.owned_tables()]
            hint = did_you_mean(node.table, names) or f"there are: {', '.join(names)}"
            what = "belongs to no account" if table else "is no table"
            self.fault(node.table_span, f'"{node.table}" {what}', hint)
            return None
        way = facts.way_to_owner(self.table, table.owner)
        if way is None:
            self.fault(node.span, *self._nothing_to_ask(table))
            return None
        condition = None
        if node.condition is not None:
            condition = _Checker(self.written, table, self.book, defining=self.defining).expect(
                node.condition, FLAG
            )
            if condition is None:
                return None
        if node.column or node.question in _OF_A_COLUMN:
            return self.farthest(node, table, condition, way)
        gives = COUNT if node.question == "count" else FLAG
        asked = typed.Ask(gives, self.text(node), node.question, table.name, condition)
        return _brought(way, asked, asked.text)

    def farthest(
        self, node: tree.Ask, table: Table, condition: Typed | None, way: tuple[Table, ...]
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
            known = typed.Junction(FLAG, condition.text, "and", (condition, known))
        asked = typed.Ask(INSTANT, self.text(node), node.question, table.name, known, column)
        return _brought(way, asked, asked.text)

    def _nothing_to_ask(self, table: Table) -> tuple[str, str]:
        subject = article(self.table.name)
        if self.table is facts.PERSON:
            return (
                f"{subject} has {table.name}s only through accounts",
                f"some account (some {table.name} (…))",
            )
        return f"{subject} belongs to no {table.owner}: there is no {table.name} to ask about", ""


_OF_A_COLUMN = ("latest", "earliest")
_OWNERS = (facts.ACCOUNT.name, facts.PERSON.name)


def _brought(way: tuple[Table, ...], body: Typed, text: str) -> Typed:
    """Something about an owner, brought to the row that the way to it starts from."""
    for table in reversed(way):
        body = _brought_once(table, body, text)
    return body


def _brought_once(table: Table, body: Typed, text: str) -> Typed:
    """Bring facts over, not what is worked out of them: what moves with time is worked out on the row."""
    match body:
        case typed.At() | typed.Const():
            return body
        case typed.Term() if body.type.kind in (Kind.INSTANT, Kind.SPAN, Kind.COUNT):
            return typed.Term(body.type, text, body.name, _brought_once(table, body.body, body.body.text))
        case typed.Call() if body.function not in ("length", "lower", "surely"):
            arguments = tuple(_brought_once(table, each, each.text) for each in body.arguments)
            return typed.Call(body.type, text, body.function, arguments)
        case typed.Shift():
            sides = (_brought_once(table, each, each.text) for each in (body.left, body.right))
            return typed.Shift(body.type, text, body.operator, *sides)
        case _:
            return typed.OfOwner(body.type, text, table.name, body)


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
