"""Random evidence and random expressions of the rule language, drawn from the declarations themselves."""

from __future__ import annotations

from datetime import timedelta
from typing import Any

from hypothesis import strategies as st

from keymallet.core.facts.declaration import ACCOUNT, PERSON, SETTING, TABLES
from keymallet.core.facts.evidence import Evidence
from keymallet.core.facts.model import Column, Kind
from keymallet.core.judging.verdicts import Verdict
from keymallet.core.language.functions import FUNCTIONS, Function
from keymallet.core.language.parse import parse
from keymallet.core.language.tree import Fault, Node
from tests.core.reference import World
from tests.support import AT, evidence

LIMITS = {"some-days": timedelta(days=2), "few": 2, "good": ["passkey", "otp"]}
TERMS = {
    "staff": "kind = person and enabled",
    "strong": "some factor (phishing-resistant and state = active)",
    "odd": "not staff or no key (state = active and account.enabled)",
}
POPULATIONS = {
    "few": [("staff", 1)],
    "some-days": [("staff", timedelta(days=1)), ("odd", timedelta(hours=36))],
}
RULEBOOK = """
[limits]
some-days = "2d"
few = 2
good = ["passkey", "otp"]
[limits.for.staff]
some-days = "1d"
few = 1
[limits.for.odd]
some-days = "36h"
[terms]
""" + "\n".join(f'{name} = "{text}"' for name, text in TERMS.items())

COLUMNS: dict[str, tuple[str, ...]] = {
    "account": (
        *(
            "kind",
            "enabled",
            "interactive",
            "created",
            "starts",
            "ends",
            "last-sign-in",
            "privileged",
            "labels",
        ),
        *("groups", "has-password", "password-locked", "locked", "locked-until", "failed-attempts", "unit"),
        *("manager", "mail"),
        *("password-lapses", "lock-stops", "remote-key", "usable"),
        "phishing-resistant-registered",
    ),
    "factor": ("kind", "registered", "last-used", "state", "phishing-resistant", "label"),
    "key": ("kind", "issued", "starts", "expires", "state", "uses-left", "scope"),
    "grant": ("role", "privileged", "mode", "starts", "ends"),
    "person": ("status", "joins", "leaves", "unit", "manager", "mail"),
    "elevation": ("starts", "ends", "closed", "outcome", "proof"),
    "setting": ("max-age", "lock-after", "remote-password"),
}
CHILDREN = ("factor", "key", "grant", "elevation")
LINKS = {"account", "source", "name", "person", "applies-to", "setting"}
"""Columns that say where a row belongs: the worlds give them as they must be."""
FEDERATED = {"federated", "proven-by", "proven-with"}
"""Columns that are worked out of what an estate declares: these worlds declare nothing."""
OTHER_COLUMNS = {
    table: tuple(
        column.name
        for column in TABLES[table].columns
        if column.name not in {*names, *LINKS, *FEDERATED} and not column.definition
    )
    for table, names in COLUMNS.items()
}
"""All the rest of what is declared: a new fact is drawn by itself, if more seldom than those above."""
TEXTS = ("", "adm-1", "b", "a.b*")
SPANS = ("0d", "1d", "2d", "limit.some-days", "36h")
ORDERS = ("=", "!=", "<", "<=", ">", ">=")


def values(column: Column) -> st.SearchStrategy[Any]:
    """Values of a column, close together so that boundaries are met."""
    match column.kind:
        case Kind.FLAG:
            some: st.SearchStrategy[Any] = st.booleans()
        case Kind.COUNT:
            some = st.integers(0, 4)
        case Kind.WORD:
            some = st.sampled_from(column.words[:3])
        case Kind.SPAN:
            some = st.integers(0, 6).map(lambda half: timedelta(hours=12 * half))
        case Kind.WORDS:
            words = column.words[:3] or TEXTS[1:]
            some = st.lists(st.sampled_from(words), max_size=2)
        case Kind.INSTANT:
            least = 0 if column.past else -3
            steps = st.integers(least * 2, 6).map(lambda half: AT - timedelta(hours=12 * half))
            some = st.one_of(steps, steps.map(lambda instant: instant - timedelta(microseconds=1)))
        case _:
            some = st.sampled_from(TEXTS[1:])
    return st.none() | some


@st.composite
def worlds(draw: st.DrawFn, most: int = 4) -> World:
    """A few accounts of two sources that supply different things, and rows that belong to them."""
    supply: dict[str, dict[str, list[str]]] = {}
    for source in ("d", "e"):
        tables = ["account", *(child for child in CHILDREN if draw(st.integers(0, 3)))]
        supply[source] = {
            table: [
                *(name for name in COLUMNS[table] if draw(st.integers(0, 3)) and name != "usable"),
                *draw(st.lists(st.sampled_from(OTHER_COLUMNS[table] or ("",)), max_size=3, unique=True)),
            ]
            for table in tables
        }
        supply[source] = {table: [name for name in names if name] for table, names in supply[source].items()}
    accounts = [
        _row(draw, supply, "account", draw(st.sampled_from("de")), place)
        for place in range(draw(st.integers(1, most)))
    ]
    children: dict[str, list[dict[str, Any]]] = {}
    for child in CHILDREN:
        children[child] = []
        for _ in range(draw(st.integers(0, 4))):
            place = draw(st.none() | st.integers(0, len(accounts) - 1))
            source = "d" if place is None else accounts[place]["source"]
            if child in supply[source]:
                children[child].append({**_row(draw, supply, child, source, 0), "of": place})
    terms = {name: parsed(text) for name, text in TERMS.items()}
    people = [_person(draw, supply, place) for place in range(draw(st.integers(0, most - 1)))]
    for account in accounts:
        _belong(draw, account, people, supply)
    settings = [_setting(draw, supply, place) for place in range(draw(st.integers(0, 3)))]
    return World(accounts, children, supply, AT, LIMITS, terms, people, settings, POPULATIONS)


def _person(draw: st.DrawFn, supply: Any, place: int) -> dict[str, Any]:
    supply["d"].setdefault("person", [*COLUMNS["person"], "person"])
    return {**_row(draw, supply, "person", "d", 0), "person": f"p{place}"}


def _setting(draw: st.DrawFn, supply: Any, place: int) -> dict[str, Any]:
    source = draw(st.sampled_from("de"))
    supply[source].setdefault("setting", [*COLUMNS["setting"], "applies-to"])
    names = st.lists(st.sampled_from(["everyone", "a0", "person", "guest", "b"]), min_size=1, max_size=2)
    row = _row(draw, supply, "setting", source, 0)
    return {**row, "setting": f"s{place}", "applies-to": draw(st.none() | names)}


def _belong(draw: st.DrawFn, account: dict[str, Any], people: list[dict[str, Any]], supply: Any) -> None:
    """Say whose an account is: somebody's, nobody's, one of several people's, or not known whose."""
    numbers = [person["person"] for person in people]
    supplied = supply[account["source"]]["account"]
    if "person" not in supplied and draw(st.booleans()):
        supplied.append("person")
    of = draw(st.none() | st.integers(0, len(people) - 1)) if people else None
    account["of"] = of
    if of is not None:
        account["person"] = numbers[of]
    elif people and draw(st.integers(0, 3)) == 0:
        account["candidates"] = draw(st.none() | st.lists(st.sampled_from(numbers), min_size=1, unique=True))
        account["unread"] = [*(account["unread"] or []), "person"]


def _row(draw: st.DrawFn, supply: Any, table: str, source: str, place: int) -> dict[str, Any]:
    row: dict[str, Any] = dict.fromkeys(TABLES[table].names)
    row |= {"source": source, "name": f"a{place}"} if table == "account" else {"source": source}
    unread = []
    for name in supply[source][table]:
        row[name] = draw(values(TABLES[table].column(name)))
        if table != "setting" and row[name] is None and draw(st.integers(0, 4)) == 0:
            unread.append(name)
    if table not in ("account", "person", "setting") and draw(st.integers(0, 9)) == 0:
        row |= dict.fromkeys(supply[source][table])
        unread = ["*"]
    row["unread"] = unread or None
    return row


def parsed(text: str) -> Node:
    node = parse(text)
    assert not isinstance(node, Fault), (text, node)
    return node


def expressions(table: str, depth: int = 3) -> st.SearchStrategy[str]:
    """The text of well-typed conditions on rows of a table."""
    leaves = st.one_of([_leaf(table, TABLES[table].column(name), "") for name in COLUMNS[table]])
    if OTHER_COLUMNS[table]:
        leaves = leaves | st.one_of([_leaf(table, TABLES[table].column(n), "") for n in OTHER_COLUMNS[table]])
    if table == "person":
        asked = _question("account", depth - 1)
        return leaves if depth == 0 else leaves | asked | asked.map(lambda text: f"not ({text})")
    of_person = [_leaf(table, PERSON.column(name), "person.") for name in COLUMNS["person"]]
    of_setting = [_leaf(table, SETTING.column(name), "setting.") for name in COLUMNS["setting"]]
    dated = [column for column in COLUMNS[table] if TABLES[table].column(column).kind is Kind.INSTANT]
    if dated:
        held = st.tuples(st.sampled_from(dated), st.sampled_from(ORDERS))
        of_setting.append(held.map(lambda parts: f"age({parts[0]}) {parts[1]} setting.max-age"))
    leaves = leaves | st.one_of(of_person) | st.one_of(of_setting)
    if table == "account":
        leaves = leaves | st.sampled_from(["unit = person.unit", "manager != person.manager"])
        leaves = leaves | st.sampled_from(
            [
                "source = 'd'",
                "source != 'd'",
                "source in ['e', 'x']",
                "source not in ['e']",
                "source like '?'",
            ]
        )
    if table != "account":
        of_account = [_leaf(table, ACCOUNT.column(name), "account.") for name in COLUMNS["account"]]
        leaves = (
            leaves
            | st.one_of(of_account)
            | st.sampled_from(["account.staff", "account.strong", "account.odd"])
        )
    else:
        leaves = leaves | st.sampled_from(list(TERMS))
    if depth == 0:
        return leaves
    inner = expressions(table, depth - 1)
    asked = st.sampled_from((*CHILDREN, "account")).flatmap(lambda child: _question(child, depth - 1))
    return st.one_of(
        leaves,
        inner.map(lambda text: f"not ({text})"),
        st.tuples(inner, st.sampled_from(["and", "or"]), inner).map(
            lambda parts: f"({parts[0]}) {parts[1]} ({parts[2]})"
        ),
        asked,
    )


def _question(child: str, depth: int) -> st.SearchStrategy[str]:
    condition = st.just("") | expressions(child, min(depth, 1)).map(lambda text: f" ({text})")
    plain = (
        st.tuples(st.sampled_from(["some", "no", "every"]), condition)
        .filter(lambda parts: parts != ("every", ""))
        .map(lambda parts: f"{parts[0]} {child}{parts[1]}")
    )
    counted = st.tuples(condition, st.sampled_from(ORDERS), st.sampled_from(["0", "1", "limit.few"])).map(
        lambda parts: f"count {child}{parts[0]} {parts[1]} {parts[2]}"
    )
    if child == "account":
        return plain | counted
    instants = [name for name in COLUMNS[child] if TABLES[child].column(name).kind is Kind.INSTANT]
    if not instants:
        return plain | counted
    farthest = st.tuples(
        st.sampled_from(["latest", "earliest"]), st.sampled_from(instants), condition, st.sampled_from(ORDERS)
    ).map(lambda parts: (f"{parts[0]} {child}.{parts[1]}{parts[2]}", parts[3]))
    dated = farthest.map(lambda each: f"age({each[0]}) {each[1]} 1d") | farthest.map(
        lambda each: f"{each[0]} is known"
    )
    return plain | counted | dated


CONSTANTS = {
    Kind.COUNT: ("0", "1", "2"),
    Kind.SPAN: SPANS,
    Kind.INSTANT: ("2026-11-23T09:00Z", "at - 1d"),
    Kind.TEXT: ("'b'", "'adm-1'"),
}
"""Expressions without facts, of each type that functions give or take with others of their kind."""


def calls(name: str, kind: Kind) -> st.SearchStrategy[str]:
    """Conditions on what any function of the language gives for a column of this kind."""
    fitting = [
        function for function in FUNCTIONS.values() if kind in function.takes and not function.internal
    ]
    return st.one_of([_call(function, name, kind) for function in fitting])


def _call(function: Function, name: str, kind: Kind) -> st.SearchStrategy[str]:
    other = st.sampled_from(CONSTANTS[kind]) if function.many else st.just("")
    call = other.map(lambda value: f"{function.name}({name}{', ' if value else ''}{value})")
    gives = kind if function.many else function.gives.kind
    if gives is Kind.FLAG:
        return call
    if gives is Kind.WORD:
        words = st.sampled_from(function.gives.words)
        return st.tuples(call, words).map(lambda parts: f"{parts[0]} = {parts[1]}")
    order = st.sampled_from(("=", "!=") if gives is Kind.TEXT else ORDERS)
    constant = st.sampled_from(CONSTANTS[gives])
    return st.tuples(call, order, constant).map(" ".join)


def _leaf(table: str, column: Column, prefix: str) -> st.SearchStrategy[str]:
    """Conditions on one column."""
    name = prefix + column.name
    order, span = st.sampled_from(ORDERS), st.sampled_from(SPANS)
    known = st.sampled_from([f"{name} is known", f"{name} is unknown"])
    match column.kind:
        case Kind.FLAG:
            return st.sampled_from([name, f"{name} = true", f"{name} != false"]) | known
        case Kind.COUNT:
            return (
                st.tuples(order, st.integers(0, 3)).map(lambda parts: f"{name} {parts[0]} {parts[1]}")
                | calls(name, column.kind)
                | known
            )
        case Kind.WORD:
            word = st.sampled_from(column.words[:3])
            listed = st.lists(word, min_size=1, max_size=2).map(", ".join)
            limited = [f"{name} in limit.good"] if name == "kind" and table == "factor" else []
            return st.one_of(
                st.tuples(st.sampled_from(["=", "!="]), word).map(
                    lambda parts: f"{name} {parts[0]} {parts[1]}"
                ),
                st.tuples(st.sampled_from(["in", "not in"]), listed).map(
                    lambda parts: f"{name} {parts[0]} [{parts[1]}]"
                ),
                known,
                *([st.sampled_from(limited)] if limited else []),
            )
        case Kind.WORDS:
            word = st.sampled_from(column.words[:3] or [f"'{text}'" for text in TEXTS[1:]])
            listed = st.lists(word, min_size=1, max_size=2).map(", ".join)
            return st.one_of(
                word.map(lambda each: f"{name} includes {each}"),
                st.tuples(st.sampled_from(["any", "all"]), listed).map(
                    lambda parts: f"{name} includes {parts[0]} of [{parts[1]}]"
                ),
                calls(name, column.kind),
                known,
            )
        case Kind.SPAN:
            return (
                st.tuples(order, span).map(lambda parts: f"{name} {parts[0]} {parts[1]}")
                | calls(name, column.kind)
                | known
            )
        case Kind.INSTANT:
            return st.one_of(
                calls(name, column.kind),
                calls(name, column.kind),
                st.tuples(order, span).map(lambda parts: f"{name} {parts[0]} at - {parts[1]}"),
                order.map(lambda each: f"{name} {each} 2026-11-23T09:00Z"),
                span.map(lambda each: f"{name} + {each} - at <= 1d"),
                known,
            )
        case _:
            text = st.sampled_from(TEXTS)
            return st.one_of(
                st.tuples(st.sampled_from(["=", "!="]), text).map(
                    lambda parts: f"{name} {parts[0]} '{parts[1]}'"
                ),
                st.sampled_from(
                    [
                        f"{name} like 'a*'",
                        f"{name} like '?'",
                        f"{name} matches '^a.*1$'",
                    ]
                ),
                calls(name, column.kind),
                text.map(lambda each: f"{name} in ['b', '{each}']"),
                known,
            )


def expected_verdict(who: bool | None, must: bool | None) -> Verdict:
    """The table of verdicts, written out."""
    if who is False:
        return Verdict.OUT_OF_SCOPE
    if must is True:
        return Verdict.MET
    return Verdict.BREACH if who is True and must is False else Verdict.UNPROVEN


def rules_of(table: str, pairs: list[tuple[str, str]]) -> str:
    rules = "".join(
        f"[rule.r{number}]\ntitle = 't'\nseverity = 'low'\neach = '{table}'\nwho = '''{who}'''\nmust = '''{must}'''\n"
        for number, (who, must) in enumerate(pairs)
    )
    return RULEBOOK + "\n" + rules


def evidence_of(world: World) -> Evidence:
    tables = {"person": world.people, "setting": world.settings, **world.children}
    return evidence(world.accounts, world.supply, **{name: rows for name, rows in tables.items() if rows})
