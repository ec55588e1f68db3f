"""A slow, obvious evaluator of the rule language: one row at a time, on plain Python values.

It reads the syntax tree, not the typed tree, and knows nothing of Polars. None is unknown.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

from keymallet.core.facts.declaration import TABLES
from keymallet.core.facts.model import Kind
from keymallet.core.language import tree
from keymallet.core.language.tree import Node
from tests.support import CLOCK

Row = dict[str, Any]


@dataclass
class World:
    """All facts, as rows. A row's `of` is the place of its account or person, or None."""

    accounts: list[Row]
    children: dict[str, list[Row]]
    supply: dict[str, dict[str, list[str]]]
    at: datetime
    limits: dict[str, Any]
    terms: dict[str, Node]
    people: list[Row] = field(default_factory=list)
    settings: list[Row] = field(default_factory=list)
    populations: dict[str, list[tuple[str, Any]]] = field(default_factory=dict)


def kleene_not(value: bool | None) -> bool | None:
    return None if value is None else not value


def kleene_and(values: list[bool | None]) -> bool | None:
    if False in values:
        return False
    return None if None in values else True


def kleene_or(values: list[bool | None]) -> bool | None:
    if True in values:
        return True
    return None if None in values else False


CALLS: dict[str, Callable[[list[Any], datetime], Any]] = {
    "age": lambda values, at: at - values[0],
    "until": lambda values, at: values[0] - at,
    "length": lambda values, at: len(values[0]),
    "lower": lambda values, at: values[0].lower(),
    "least": lambda values, at: min(values),
    "greatest": lambda values, at: max(values),
    "either": lambda values, at: values[0],
    "hour-of": lambda values, at: values[0].astimezone(CLOCK).hour,
    "weekday-of": lambda values, at: f"{values[0].astimezone(CLOCK):%A}".lower(),
}
"""What every function gives for known arguments, at an instant; worked out in plain Python."""


class Evaluator:
    """Evaluates expressions about one row of one table."""

    def __init__(self, world: World, table: str, row: Row | None) -> None:
        self.world = world
        self.table = table
        self.row = row

    @property
    def account(self) -> Row | None:
        if self.table == "account":
            return self.row
        place = self.row["of"] if self.row is not None else None
        return None if place is None else self.world.accounts[place]

    def owner(self, table: str) -> Row | None:
        """The account or person the row belongs to; itself if it is one."""
        if table == self.table:
            return self.row
        if table == "account":
            return self.account
        place = self.account["of"] if self.account is not None else None
        return None if place is None else self.world.people[place]

    def value(self, node: Node) -> Any:
        method = getattr(self, f"_{type(node).__name__.lower()}")
        return method(node)

    def _literal(self, node: tree.Literal) -> Any:
        return node.value

    def _name(self, node: tree.Name) -> Any:
        head, _, rest = node.text.partition(".")
        if rest and head == "limit":
            return self.limit(rest)
        if rest and head == "setting":
            setting = self.setting()
            return None if setting is None else Evaluator(self.world, "setting", setting).fact(rest)
        if rest and head in ("account", "person"):
            return Evaluator(self.world, head, self.owner(head)).value(tree.Name(node.span, rest))
        if TABLES[self.table].column(node.text):
            return self.fact(node.text)
        if node.text in self.world.terms:
            return self.value(self.world.terms[node.text])
        return self.world.at if node.text == "at" else node.text

    def limit(self, name: str) -> Any:
        """The limit of the first population that the account is in; not known if it may be in one."""
        if self.table not in ("person", "setting"):
            about = Evaluator(self.world, "account", self.account)
            for term, value in self.world.populations.get(name, []):
                belongs = None if about.row is None else about.value(self.world.terms[term])
                if belongs is None:
                    return None
                if belongs:
                    return value
        return self.world.limits[name]

    def setting(self) -> Row | None:
        """The one setting in force for the account: named by it, its groups, its kind, or for everyone."""
        account = self.account
        if account is None:
            return None
        mine = [row for row in self.world.settings if row["source"] == account["source"]]
        for names in ([account["name"]], account["groups"] or [], [account["kind"]], ["everyone"]):
            fitting = [row for row in mine if set(names) & set(row["applies-to"] or ["everyone"])]
            if fitting:
                return fitting[0] if len(fitting) == 1 else None
        return None

    def fact(self, name: str) -> Any:
        if self.row is None:
            return None
        derived = getattr(self, f"derived_{self.table}_{name.replace('-', '_')}", None)
        return derived() if derived else self.row.get(name)

    # derived facts, written out by hand

    def derived_factor_phishing_resistant(self) -> bool | None:
        told = self.row["phishing-resistant"]
        if told is not None:
            return told
        kind = self.row["kind"]
        return None if kind is None else kind in ("hardware-key", "passkey", "smartcard")

    def derived_account_phishing_resistant_registered(self) -> bool | None:
        told = self.row["phishing-resistant-registered"]
        if told is not None:
            return told

        def works(factor: Row) -> bool | None:
            active = None if factor["state"] is None else factor["state"] == "active"
            evaluator = Evaluator(self.world, "factor", factor)
            return kleene_and([active, evaluator.derived_factor_phishing_resistant()])

        return self.over("factor", works)

    def derived_account_has_password(self) -> bool | None:
        return kleene_or([self.row["has-password"], self.row["password-empty"] is True])

    def derived_account_locked(self) -> bool | None:
        if self.lapsed():
            return True
        until = self.row["locked-until"]
        if until is not None and until <= self.world.at:
            return False
        return self.row["locked"]

    def lapsed(self) -> bool:
        lapses = self.row["password-lapses"]
        return lapses is not None and lapses <= self.world.at

    def derived_account_privileged(self) -> bool | None:
        if self.row["privileged"] is not None:
            return self.row["privileged"]
        at = self.world.at
        standing = self.over(
            "grant",
            lambda row: kleene_and(
                [
                    row["privileged"],
                    None if row["mode"] is None else row["mode"] == "standing",
                    not (row["starts"] is not None and row["starts"] > at),
                    self.not_over(row, "grant", "ends"),
                ]
            ),
        )
        opened = self.over(
            "elevation",
            lambda row: kleene_and(
                [
                    None if row["outcome"] is None else row["outcome"] == "opened",
                    None if row["starts"] is None else row["starts"] <= at,
                    None if row["ends"] is None else row["ends"] > at,
                    kleene_not(self.known(row, "elevation", "closed")),
                ]
            ),
        )
        return kleene_or([standing, opened])

    def derived_account_usable(self) -> bool | None:
        row, at = self.row, self.world.at
        key = self.over("key", self.opens)
        factor = self.over(
            "factor",
            lambda each: kleene_and(
                [
                    None if each["state"] is None else each["state"] == "active",
                    None
                    if each["kind"] is None
                    else each["kind"] in ("passkey", "hardware-key", "smartcard"),
                ]
            ),
        )
        free = kleene_not(self.derived_account_locked())
        password = kleene_and([self.derived_account_has_password(), row["password-locked"] is not True, free])
        without = kleene_and([kleene_or([free, row["lock-stops"] == "password"]), kleene_or([key, factor])])
        return kleene_and(
            [
                row["enabled"],
                not (row["starts"] is not None and row["starts"] > at),
                self.not_over(row, "account", "ends"),
                not self.lapsed(),
                kleene_or([password, without]),
            ]
        )

    def opens(self, key: Row) -> bool | None:
        """Whether a key works, as far as its account's system takes keys."""
        of_ssh = key["kind"] in ("ssh-key", "ssh-certificate")
        return kleene_and(
            [
                None if key["state"] is None else key["state"] == "active",
                not (key["starts"] is not None and key["starts"] > self.world.at),
                self.not_over(key, "key", "expires"),
                not (of_ssh and self.row["remote-key"] is False),
            ]
        )

    def not_over(self, row: Row, table: str, name: str) -> bool | None:
        """Has no end, or one still ahead."""
        if row[name] is not None:
            return bool(row[name] > self.world.at)
        return kleene_not(self.known(row, table, name))

    def over(self, table: str, test: Any) -> bool | None:
        """Whether some row of the account passes."""
        if self.row is None or not self.supplied(table):
            return None
        return kleene_or([test(row) for row in self.rows(table)])

    def rows(self, table: str) -> list[Row]:
        place = next(place for place, row in enumerate(self.world.accounts) if row is self.row)
        return [row for row in self.world.children.get(table, []) if row["of"] == place]

    def supplied(self, table: str) -> bool:
        return table in self.world.supply[self.row["source"]]

    # tests

    def _not(self, node: tree.Not) -> bool | None:
        return kleene_not(self.value(node.operand))

    def _boolop(self, node: tree.BoolOp) -> bool | None:
        values = [self.value(part) for part in node.parts]
        return kleene_and(values) if node.word == "and" else kleene_or(values)

    def _compare(self, node: tree.Compare) -> bool | None:
        outcomes = {self.compared(node, left, right) for left, right in self.possible_sides(node)}
        return outcomes.pop() if len(outcomes) == 1 else None

    def possible_sides(self, node: tree.Compare) -> list[tuple[Any, Any]]:
        """Both sides; where rows are counted of which some may or may not count, every number it can be."""
        sides = (node.left, node.right)
        numbers = [
            self.counts(side) if isinstance(side, tree.RowQuery) and side.question == "count" else None
            for side in sides
        ]
        if numbers == [None, None]:
            return [self.sides(*sides)]
        each = [
            [self.value(side)] if known is None else known for side, known in zip(sides, numbers, strict=True)
        ]
        return [(left, right) for left in each[0] for right in each[1]]

    def counts(self, node: tree.RowQuery) -> list[int | None]:
        """All the numbers that a count can be; of accounts that may be another's, no bound is known."""
        if node.table == "account":
            values = self.of_accounts(node)
            if values is not None and None in values:
                sure = sum(value is True for value in values)
                return [*range(sure, sure + 1000)]
        else:
            about = Evaluator(self.world, "account", self.account)
            supplied = about.row is not None and about.supplied(node.table)
            values = [self.condition(node, row) for row in about.rows(node.table)] if supplied else None
        if values is None:
            return [None]
        sure = sum(value is True for value in values)
        return [*range(sure, sure + sum(value is None for value in values) + 1)]

    def compared(self, node: tree.Compare, left: Any, right: Any) -> bool | None:
        if left is None or right is None:
            return None
        return {
            "=": lambda: left == right,
            "!=": lambda: left != right,
            "<": lambda: left < right,
            "<=": lambda: left <= right,
            ">": lambda: left > right,
            ">=": lambda: left >= right,
        }[node.operator]()

    def sides(self, left: Node, right: Node) -> tuple[Any, Any]:
        return self.against(left, right), self.against(right, left)

    def against(self, node: Node, other: Node) -> Any:
        """A bare name beside a word column is a word if the column has it."""
        if isinstance(node, tree.Name) and node.text in self.words(other):
            return node.text
        return self.value(node)

    def words(self, node: Node) -> tuple[str, ...]:
        if not isinstance(node, tree.Name):
            return ()
        name, table = node.text, self.table
        head, _, rest = name.partition(".")
        if rest:
            name, table = rest, head
        column = TABLES[table].column(name) if table in TABLES else None
        return column.words if column and column.kind in (Kind.WORD, Kind.WORDS) else ()

    def items(self, choices: Node, other: Node) -> list[Any]:
        if isinstance(choices, tree.ListOf):
            return [self.against(item, other) for item in choices.items]
        return list(self.value(choices))

    def _within(self, node: tree.Within) -> bool | None:
        value = self.value(node.operand)
        if value is None:
            return None
        return (value in self.items(node.choices, node.operand)) != node.negated

    def _includes(self, node: tree.Includes) -> bool | None:
        held = self.value(node.operand)
        if held is None:
            return None
        if node.mode == "one":
            wanted = self.against(node.wanted, node.operand)
            return None if wanted is None else wanted in held
        wanted = self.items(node.wanted, node.operand)
        test = any if node.mode == "any" else all
        return test(each in held for each in wanted)

    def _pattern(self, node: tree.Pattern) -> bool | None:
        value = self.value(node.operand)
        if value is None:
            return None
        if node.word == "matches":
            return re.search(node.pattern, value) is not None
        regex = "".join({"*": ".*", "?": "."}.get(each, re.escape(each)) for each in node.pattern)
        return re.fullmatch(regex, value, re.DOTALL) is not None

    def _known(self, node: tree.Known) -> bool | None:
        if isinstance(node.operand, tree.RowQuery):
            return self.is_any(node)
        name, evaluator = node.operand.text, self
        head, _, rest = name.partition(".")
        if rest:
            owner = self.setting() if head == "setting" else self.owner(head)
            name, evaluator = rest, Evaluator(self.world, head, owner)
        column = TABLES[evaluator.table].column(name)
        if evaluator.row is None:
            known: bool | None = None
        elif column.definition:
            known = evaluator.fact(name) is not None
        else:
            known = evaluator.known(evaluator.row, evaluator.table, name)
        return kleene_not(known) if node.negated else known

    def is_any(self, node: tree.Known) -> bool | None:
        """`latest x.y (…) is known`: some row passes and has the figure."""
        rows = self.counting(node.operand)
        found = None if rows is None else kleene_or([counts for _, counts in rows])
        return kleene_not(found) if node.negated else found

    def known(self, row: Row, table: str, name: str) -> bool | None:
        if row[name] is not None:
            return True
        supplied = name in self.world.supply[row["source"]].get(table, [])
        unread = row.get("unread") or []
        return False if supplied and name not in unread and "*" not in unread else None

    # values

    def _call(self, node: tree.Call) -> Any:
        values = [self.value(argument) for argument in node.arguments]
        if node.function == "either":
            return next((value for value in values if value is not None), None)
        if node.function in ("least", "greatest"):
            pairs = zip(values, node.arguments, strict=True)
            values = [value for value, argument in pairs if value is not None or not self.is_none(argument)]
        if not values or any(value is None for value in values):
            return None
        return CALLS[node.function](values, self.world.at)

    def is_none(self, node: Node) -> bool:
        """Whether an argument is a fact that is known to be none."""
        if not isinstance(node, tree.Name):
            return False
        head, _, rest = node.text.partition(".")
        if head == "limit" or (not rest and TABLES[self.table].column(node.text) is None):
            return False
        return self._known(tree.Known(node.span, node, True)) is True

    def _addsub(self, node: tree.AddSub) -> Any:
        left, right = self.value(node.left), self.value(node.right)
        if left is None or right is None:
            return None
        return left + right if node.operator == "+" else left - right

    def is_a_row(self, row: Row) -> bool | None:
        """Not known of a row that stands for not knowing of any."""
        return None if "*" in (row.get("unread") or []) else True

    def _rowquery(self, node: tree.RowQuery) -> Any:
        if node.question in ("latest", "earliest"):
            return self.farthest(node)
        if node.table == "account":
            return self.answer(node, self.of_accounts(node))
        about = Evaluator(self.world, "account", self.account)
        if about.row is None or not about.supplied(node.table):
            return None
        return self.answer(node, [self.condition(node, row) for row in about.rows(node.table)])

    def counting(self, ask: tree.RowQuery) -> list[tuple[Row, bool | None]] | None:
        """Each row asked about, and whether it passes and has the figure; None where there is nobody to ask."""
        about = Evaluator(self.world, "account", self.account)
        if about.row is None or not about.supplied(ask.table):
            return None
        found = []
        for row in about.rows(ask.table):
            here = Evaluator(self.world, ask.table, row)
            passes = True if ask.condition is None else here.value(ask.condition)
            found.append((row, kleene_and([passes, here.known(row, ask.table, ask.column)])))
        return found

    def farthest(self, node: tree.RowQuery) -> Any:
        """Over the rows that surely pass and have the figure; not known if any other row may."""
        rows = self.counting(node)
        if rows is None or None in [counts for _, counts in rows]:
            return None
        figures = [row[node.column] for row, counts in rows if counts]
        if not figures:
            return None
        return max(figures) if node.question == "latest" else min(figures)

    def condition(self, node: tree.RowQuery, row: Row) -> Any:
        if node.condition is None:
            return self.is_a_row(row)
        return Evaluator(self.world, node.table, row).value(node.condition)

    def of_accounts(self, node: tree.RowQuery) -> list[bool | None] | None:
        """The condition on each account of the person, or that may be theirs; None without a person."""
        person = self.owner("person")
        if person is None:
            return None
        values = []
        for account in self.world.accounts:
            value = self.condition(node, account)
            if account["of"] is not None:
                if self.world.people[account["of"]] is person:
                    values.append(value)
            elif self.may_be_of(account, person):
                # It counts if it is theirs: whether or not it passes cannot be told, unless it is out of it.
                out = node.question == "every"
                values.append(out if value is out else None)
        return values

    def may_be_of(self, account: Row, person: Row) -> bool:
        if account.get("candidates"):
            return person["person"] in account["candidates"]
        unread = account.get("unread") or []
        if "person" in unread or "*" in unread:
            return True
        return account["person"] is None and "person" not in self.world.supply[account["source"]]["account"]

    def answer(self, node: tree.RowQuery, values: list[bool | None] | None) -> Any:
        if values is None:
            return None
        if node.question == "count":
            return None if None in values else sum(values)
        if node.question == "every":
            return kleene_and(values)
        return kleene_or(values) if node.question == "some" else kleene_not(kleene_or(values))
