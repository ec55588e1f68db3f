"""A rulebook on the terminal: in short, in whole, and one rule with all that it rests on."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator

from rich.console import Console
from rich.padding import Padding
from rich.text import Text
from rich.tree import Tree

from keymallet.core.base.listing import and_more, how_many
from keymallet.core.explaining.tally_reasons import asked_for
from keymallet.core.explaining.wording import constant_text
from keymallet.core.facts.declaration import ACCOUNT
from keymallet.core.language import typed
from keymallet.core.language.literals import span_text
from keymallet.core.language.typed import Typed, limit_of
from keymallet.core.rulebook.model import MENDS, SEEN, Demand, Rule, Rulebook, Severity, Tally
from keymallet.core.studies.contradictions import Contradiction
from keymallet.views.plain_table import PlainTable
from keymallet.views.terminal import SEVERITY_STYLES, plain_grid, text


def show_checked(out: Console, path: str, book: Rulebook) -> None:
    """Print that the book is in order, what is in it, and what in it nobody uses."""
    _title(out, book)
    limits = how_many(len(book.limits), "limit")
    out.print(text(f"{path}: {_graded(book)}, {limits}, no fault"))
    for remark in book.remarks[:_REMARKS_SHOWN]:
        out.print(text(f"  {remark}", "yellow"))
    if len(book.remarks) > _REMARKS_SHOWN:
        out.print(text(f"  {and_more(len(book.remarks) - _REMARKS_SHOWN, 'remark')}", "yellow"))


def show_contradictions(out: Console, found: list[Contradiction]) -> None:
    """Print which rules cannot both be met, and how to choose between them."""
    for each in found:
        facts = " and ".join(each.facts)
        out.print()
        out.print(text(f"no {each.one.table} can meet both of these, for {facts}:", "yellow"))
        for rule in (each.one, each.other):
            out.print(text(f"  {rule.id}  {rule.title}"))
            out.print(text(f"    {rule.must.text}", "dim"))
        out.print(text("  choose in the estate file, with your reason:", "dim"))
        choice = f'rule = "{each.one.id}", over = "{each.other.id}", reason = "…"'
        out.print(text(f"    prefer = [{{ {choice} }}]", "dim"))


_REMARKS_SHOWN = 50


def _title(out: Console, book: Rulebook) -> None:
    edition = f", edition {book.edition}" if book.edition else ""
    out.print(text(f"{book.title}{edition}", "bold"))


def _graded(book: Rulebook) -> str:
    graded = Counter(demand.severity for demand in book.demands)
    grades = ", ".join(
        f"{graded[severity]} {severity.word}"
        for severity in sorted(Severity, reverse=True)
        if graded[severity]
    )
    return f"{how_many(len(book.demands), 'rule')} ({grades})"


def show_shipped(out: Console, books: list[tuple[str, Rulebook]]) -> None:
    """Print the rulebooks that ship, a line each."""
    table = PlainTable(header=False)
    for name, book in books:
        table.add_row(text(name, "bold"), text(book.title), text(_graded(book), "dim"))
    out.print(table)


def show_book(out: Console, book: Rulebook) -> None:
    """Print the whole book: limits, terms, rules and what it cannot judge, with the files they are from."""
    _title(out, book)
    out.print(text(f"{_graded(book)}, from {', '.join(book.files)}", "dim"))
    several = len(book.files) > 1
    if book.limits:
        out.print()
        out.print(text("limits", "bold"))
        longest = max(map(len, book.limits)) + 3
        table = plain_grid(max(22, min(longest, 36)), 34, None)
        for name, limit in book.limits.items():
            own = ", ".join(
                f"{constant_text(value)} for {who}" for who, value in book.populations.get(name, ())
            )
            value = constant_text(limit) + (f"; {own}" if own else "")
            table.add_row(
                text(f"  {name}"),
                text(value),
                text(book.limit_origins.get(name, "") if several else "", "dim"),
            )
        out.print(table)
    if book.terms:
        out.print()
        out.print(text("terms", "bold"))
        table = plain_grid(22, None)
        for name, term in book.terms.items():
            origin = f"  ({term.file})" if several else ""
            table.add_row(text(f"  {name}"), text(term.text).append_text(text(origin, "dim")))
        out.print(table)
    out.print()
    out.print(text("rules", "bold"))
    table = plain_grid(10, None)
    for demand in book.demands:
        said = text(demand.id, "bold").append_text(text(f"  {demand.title}"))
        if several:
            said.append_text(text(f"  ({demand.origin})", "dim"))
        for key, value in _parts(demand):
            said.append("\n").append_text(text(f"  {key}: {value}", "dim"))
        table.add_row(Text(f"  {demand.severity.word}", SEVERITY_STYLES[demand.severity]), said)
    out.print(table)
    if book.not_judged:
        out.print()
        out.print(text("not judged, for facts of accounts cannot tell", "bold"))
        for requirement in book.not_judged:
            out.print(
                Padding(
                    text(f"{requirement.cite}: {requirement.asks}: {requirement.why}", "dim"), (0, 0, 0, 2)
                )
            )


def _parts(demand: Demand) -> Iterator[tuple[str, str]]:
    if demand.table != ACCOUNT.name:
        yield "each", demand.table
    if isinstance(demand, Rule):
        if demand.who.text != "true":
            yield "who", demand.who.text
        yield ("not shared", demand.distinct) if demand.distinct else ("must", demand.must.text)
        if demand.grace is not None:
            yield "grace", span_text(demand.grace)
    if isinstance(demand, Tally):
        yield "count", demand.count.text
        yield "number", asked_for(demand) + (f", by {demand.by}" if demand.by else "")


def show_demand(out: Console, book: Rulebook, demand: Demand) -> None:
    """Print one rule as it stands: what it asks, every term and limit it uses, what each name means."""
    out.print(text(f"{demand.id}  ", "bold").append_text(text(demand.title)))
    graded = Text().append(demand.severity.word, SEVERITY_STYLES[demand.severity])
    out.print(graded.append_text(text(f"  from {demand.origin}", "dim")))
    table = plain_grid(10, None)
    for key, value in _parts(demand):
        table.add_row(text(f"  {key}", "dim"), text(value))
    extras = (
        ("mend", f"{demand.mend}: {MENDS[demand.mend]}" if demand.mend else ""),
        ("to mend", _to_mend(demand)),
        ("formerly", ", ".join(demand.formerly)),
        ("topic", f"{demand.topic}: keymallet view {demand.topic}" if demand.topic else ""),
        ("advice", demand.advice),
        ("cite", ", ".join(demand.cite)),
        ("note", demand.note),
    )
    for key, value in extras:
        if value:
            table.add_row(text(f"  {key}", "dim"), text(value))
    out.print(table)
    used = _used(demand)
    _names(out, "terms", _terms(book, demand, used))
    _names(out, "limits", _limits(book, used))
    _names(out, "facts", _facts(used))


def _to_mend(demand: Demand) -> str:
    if demand.mend_within is None:
        return ""
    start = "a run first saw it" if demand.counted_from == SEEN else "the breach began"
    return f"within {span_text(demand.mend_within)} after {start}"


def _used(demand: Demand) -> list[Typed]:
    return [part for expression in demand.expressions for part in _written(expression)]


def _written(node: Typed) -> Iterator[Typed]:
    """What stands in the rulebook, terms opened; what defines a fact is the fact's own matter."""
    yield node
    if not isinstance(node, typed.Derived):
        for part in node.parts:
            yield from _written(part)


def _terms(book: Rulebook, demand: Demand, used: list[Typed]) -> dict[str, tuple[str, str]]:
    """The terms as this rule's own book has them: beside it others may call something else so."""
    terms = {}
    for part in used:
        if isinstance(part, typed.Term):
            told = book.terms.get(part.name)
            terms[part.name] = (part.body.text, told.file if told else demand.origin)
    return terms


def _limits(book: Rulebook, used: list[Typed]) -> dict[str, tuple[str, str]]:
    named = dict.fromkeys(limit_of(part) for part in used if limit_of(part))
    limits = {}
    for name in named:
        own = "".join(f"; {constant_text(value)} for {who}" for who, value in book.populations.get(name, ()))
        limits[name] = (constant_text(book.limits[name]) + own, book.limit_origins.get(name, ""))
    return limits


def _facts(used: list[Typed]) -> dict[str, tuple[str, str]]:
    facts = {}
    for part in used:
        fact = part.fact if isinstance(part, typed.Derived | typed.Unshared) else part
        if isinstance(fact, typed.Fact):
            column = fact.column
            words = f" ({', '.join(column.words)})" if column.words and len(column.words) < 8 else ""
            worked_out = "worked out from other facts" if isinstance(part, typed.Derived) else ""
            facts[f"{fact.table}.{column.name}"] = (f"{column.meaning}{words}", worked_out)
    return facts


def _names(out: Console, heading: str, named: dict[str, tuple[str, str]]) -> None:
    if not named:
        return
    out.print()
    out.print(text(heading, "bold"))
    table = plain_grid(28, None)
    for name, (meaning, origin) in named.items():
        said = text(meaning)
        if origin:
            said.append_text(text(f"  ({origin})", "dim"))
        table.add_row(text(f"  {name}"), said)
    out.print(table)


def show_tree(out: Console, book: Rulebook, demand: Demand) -> None:
    """Print how the expressions of a rule are understood, a node a line."""
    tree = Tree(text(f"{demand.id}  {demand.title}", "bold"), guide_style="dim")
    if isinstance(demand, Rule):
        _grow(tree.add(text("who", "bold")), demand.who)
        _grow(tree.add(text("must", "bold")), demand.must)
    if isinstance(demand, Tally):
        _grow(tree.add(text(f"count; {asked_for(demand)}", "bold")), demand.count)
    out.print(tree)


_QUESTIONS = {
    "some": "there is a {table}",
    "no": "there is no {table}",
    "every": "every {table}",
    "count": "the number of {table}s",
    "latest": "the latest {column} of a {table}",
    "earliest": "the earliest {column} of a {table}",
}


def _grow(tree: Tree, node: Typed) -> None:
    """Add a node, and below it what it is made of."""
    match node:
        case typed.BoolOp():
            branch = tree.add(text("all of" if node.word == "and" else "any of", "cyan"))
            parts: tuple[Typed, ...] = node.members
        case typed.Not():
            branch, parts = tree.add(text("not", "cyan")), (node.operand,)
        case typed.Term():
            branch, parts = tree.add(text(node.name).append_text(text("  a term", "dim"))), (node.body,)
        case typed.OfOwner():
            of = "the setting in force" if node.to else f"its {node.owner}"
            branch, parts = tree.add(text(f"of {of}", "cyan")), (node.body,)
        case typed.RowQuery():
            column = node.column.name if node.column else ""
            asked = _QUESTIONS[node.question].format(table=node.table, column=column)
            branch = tree.add(text(asked + (" for which" if node.condition else ""), "cyan"))
            parts = (node.condition,) if node.condition else ()
        case typed.Compare() | typed.Within() | typed.Includes() if any(
            _is_deep(part) for part in node.parts
        ):
            branch, parts = tree.add(text(node.text)), tuple(part for part in node.parts if _is_deep(part))
        case typed.Derived():
            tree.add(text(node.text).append_text(text(f"  {node.fact.column.meaning}; worked out", "dim")))
            return
        case _:
            values = [
                f"{part.text} is {constant_text(part)}" for part in node.walk()
                if isinstance(part, typed.Const | typed.ConstList) and part.limit
            ]  # fmt: skip
            tree.add(text(node.text).append_text(text(f"  {', '.join(values)}" if values else "", "dim")))
            return
    for part in parts:
        _grow(branch, part)


def _is_deep(node: Typed) -> bool:
    return isinstance(node, typed.RowQuery | typed.OfOwner | typed.Term)
