"""Text to syntax tree, with the place of every node; syntax errors as one `Fault`."""

from __future__ import annotations

import hashlib
import io
import re
from functools import cache, lru_cache
from importlib.resources import files
from typing import Any

import lark
from lark import Lark, Token, Transformer, Tree, v_args
from lark.exceptions import UnexpectedCharacters, UnexpectedEOF, UnexpectedInput, UnexpectedToken
from lark.tree import Meta

from keymallet.core.language import tree
from keymallet.core.language.literals import parse_instant, parse_span
from keymallet.core.language.tree import Fault, Node, Span

DEEPEST = 100
LONGEST = 20_000
_NEGATIONS = re.compile(r"(?:\bnot\s+)+")


class _BadLiteralError(Exception):
    def __init__(self, fault: Fault) -> None:
        self.fault = fault


@lru_cache(maxsize=4096)
def parse(text: str) -> Node | Fault:
    """Parse one expression. Returns its tree, or the first fault of syntax.

    A tree is never changed, so an expression that ten rules share is parsed once.
    """
    if not text.strip():
        return Fault(Span(0, len(text)), "the expression is empty")
    if len(text) > LONGEST:
        return Fault(
            Span(0, 1), f"the expression is longer than {LONGEST:,} characters", "divide it into terms"
        )
    if _deepest_nesting(text) > DEEPEST:
        return Fault(
            Span(0, 1), f"brackets or nots are nested more than {DEEPEST} deep", "divide it into terms"
        )
    try:
        parsed = _parser().parse(text)
        result: Node = _ToNodes().transform(parsed) if isinstance(parsed, Tree) else parsed
        return result
    except UnexpectedInput as unexpected:
        return _syntax_fault(text, unexpected)
    except Exception as error:
        cause = getattr(error, "orig_exc", error)
        if isinstance(cause, _BadLiteralError):
            return cause.fault
        raise


BUILT = "grammar.parser"
"""The parser as it ships: a line that says what it was built of, and the parser as Lark keeps one."""


@cache
def _parser() -> Lark:
    """The parser that ships; of another grammar, or by another version of Lark, it would be another one."""
    folder = files("keymallet.core.language")
    grammar = folder.joinpath("grammar.lark").read_text("utf-8")
    known, _, built = folder.joinpath(BUILT).read_bytes().partition(b"\n")
    return Lark.load(io.BytesIO(built)) if known == built_of(grammar) else build(grammar)


def build(grammar: str) -> Lark:
    """Build the parser of a grammar: that takes a fifth of the time in which a small estate is judged."""
    return Lark(grammar, parser="lalr", propagate_positions=True, maybe_placeholders=False)


def built_of(grammar: str) -> bytes:
    """What a parser is built of: the version of Lark, and the digest (SHA-256) of the grammar."""
    return f"lark {lark.__version__}, grammar {hashlib.sha256(grammar.encode()).hexdigest()}".encode()


def _deepest_nesting(text: str) -> int:
    """Bound the depth of the tree before it is built: brackets open, plus negations in a row."""
    depth = deepest = 0
    for character in text:
        if character in "([":
            depth += 1
            deepest = max(deepest, depth)
        elif character in ")]":
            depth -= 1
    negations = max((len(run.split()) for run in _NEGATIONS.findall(text)), default=0)
    return max(deepest, negations)


def _span(meta: Meta) -> Span:
    return Span(meta.start_pos, meta.end_pos)


def _token_span(token: Token) -> Span:
    return Span(token.start_pos or 0, token.end_pos or 0)


@v_args(meta=True)
class _ToNodes(Transformer[Any, Node]):
    """One short method for each shape of the grammar."""

    def name(self, meta: Meta, children: list[Token]) -> Node:
        return tree.Name(_span(meta), str(children[0]))

    def literal(self, meta: Meta, children: list[Token]) -> Node:
        token = children[0]
        value: Any = _LITERALS[token.type](str(token))
        if value is None:
            raise _BadLiteralError(_literal_fault(token))
        return tree.Literal(_span(meta), value)

    def list_of(self, meta: Meta, children: list[Node]) -> Node:
        return tree.ListOf(_span(meta), tuple(children))

    def negate(self, meta: Meta, children: list[Node]) -> Node:
        return tree.Not(_span(meta), children[0])

    def both(self, meta: Meta, children: list[Node]) -> Node:
        return tree.BoolOp(_span(meta), "and", tuple(children))

    def either(self, meta: Meta, children: list[Node]) -> Node:
        return tree.BoolOp(_span(meta), "or", tuple(children))

    def compare(self, meta: Meta, children: list[Any]) -> Node:
        left, operator, right = children
        return tree.Compare(_span(meta), str(operator), left, right)

    def within(self, meta: Meta, children: list[Node]) -> Node:
        return tree.Within(_span(meta), children[0], children[1], negated=False)

    def not_within(self, meta: Meta, children: list[Node]) -> Node:
        return tree.Within(_span(meta), children[0], children[1], negated=True)

    def includes_one(self, meta: Meta, children: list[Node]) -> Node:
        return tree.Includes(_span(meta), children[0], "one", children[1])

    def includes_any(self, meta: Meta, children: list[Node]) -> Node:
        return tree.Includes(_span(meta), children[0], "any", children[1])

    def includes_all(self, meta: Meta, children: list[Node]) -> Node:
        return tree.Includes(_span(meta), children[0], "all", children[1])

    def like(self, meta: Meta, children: list[Any]) -> Node:
        return tree.Pattern(_span(meta), children[0], "like", children[1][1:-1], _token_span(children[1]))

    def matches(self, meta: Meta, children: list[Any]) -> Node:
        return tree.Pattern(_span(meta), children[0], "matches", children[1][1:-1], _token_span(children[1]))

    def known(self, meta: Meta, children: list[Node]) -> Node:
        return tree.Known(_span(meta), children[0], negated=False)

    def unknown(self, meta: Meta, children: list[Node]) -> Node:
        return tree.Known(_span(meta), children[0], negated=True)

    def add_sub(self, meta: Meta, children: list[Any]) -> Node:
        left, operator, right = children
        return tree.AddSub(_span(meta), "+" if operator == "+" else "-", left, right)

    def call(self, meta: Meta, children: list[Any]) -> Node:
        function, *arguments = children
        return tree.Call(_span(meta), str(function), _token_span(function), tuple(arguments))

    def row_query(self, meta: Meta, children: list[Any]) -> Node:
        question, table, *condition = children
        asked = condition[0] if condition else None
        name, _, column = str(table).partition(".")
        return tree.RowQuery(_span(meta), question.value, name, _token_span(table), asked, column)


_LITERALS: dict[str, Any] = {
    "INSTANT": parse_instant,
    "SPAN": parse_span,
    "NUMBER": lambda text: float(text) if "." in text else int(text) if len(text) < 18 else None,
    "TEXT": lambda text: text[1:-1],
    "TRUTH": lambda text: text == "true",
}


def _literal_fault(token: Token) -> Fault:
    if token.type == "INSTANT":
        return Fault(
            _token_span(token),
            f"{token} is no day or time of the years 1970 to 9998",
            "write it like 2026-11-24 or 2026-11-24T09:00Z",
        )
    if token.type == "SPAN":
        return Fault(_token_span(token), f"{token} is finer than a microsecond or longer than 365,000 days")
    return Fault(_token_span(token), f"{token} is too large a number")


def _syntax_fault(text: str, unexpected: UnexpectedInput) -> Fault:
    if isinstance(unexpected, UnexpectedCharacters):
        place = unexpected.pos_in_stream or 0
        return Fault(Span(place, place + 1), *_about_character(text, place))
    token = unexpected.token if isinstance(unexpected, UnexpectedToken) else None
    if isinstance(unexpected, UnexpectedEOF) or token is None or token.type == "$END":
        end = len(text.rstrip())
        return Fault(Span(end, end + 1), "the expression ends too early", _wanted(unexpected))
    return Fault(_token_span(token), *_about_token(text, token, unexpected))


_MISTAKEN = {
    "==": 'write "="; of a yes or no the name alone will do',
    "<>": 'write "!="',
    "=<": 'write "<="',
    "=>": 'write ">="; where it means "then", write "not A or B"',
}
"""Comparisons of other languages, and how they are written here."""
_CONDITIONS = 'put whom the rule is for into "who", or write "not A or B" for "if A then B"'


def _about_character(text: str, place: int) -> tuple[str, str]:
    character = text[place]
    if character == "'":
        return "the text that opens here has no closing quote", "close it with '"
    if character == '"':
        return 'text stands in single quotes here, not in "', "write 'text'"
    if text[place : place + 2] in _MISTAKEN:
        return f'"{text[place : place + 2]}" is no comparison', _MISTAKEN[text[place : place + 2]]
    hints = {"&": "and", "|": "or", "!": "not"}
    if character in hints:
        return f'"{character}" is not part of the language', f'write "{hints[character]}"'
    return f'"{character}" is not part of the language', ""


def _about_token(text: str, token: Token, unexpected: UnexpectedInput) -> tuple[str, str]:
    start = token.start_pos or 0
    before = text[:start]
    if token.type == "NAME" and before[-1:].isdigit():
        return f'"{token}" is no unit of time', "spans are written 90d, 8h, 30min, 2w, 45s"
    pair = f"{before[-1:]}{token}"[:2]
    if token.type == "COMPARISON" and pair in _MISTAKEN:
        return f'"{pair}" is no comparison', _MISTAKEN[pair]
    if token.type == "COMPARISON" and before.rstrip().endswith(("=", "<", ">")):
        return "two comparisons stand side by side", "there are = != < <= > >="
    conditional = re.search(r"\b(if|when|then|unless|else)\b", f"{before}{token}")
    if conditional:
        return f'"{conditional[1]}" is not part of the language', _CONDITIONS
    if token.type == "LSQB" and before.rstrip().endswith("includes"):
        return "a list cannot stand here", 'say "includes any of" or "includes all of" before a list'
    if token.type == "NAME" and token in ("has", "contains"):
        return f'"{token}" is not part of the language', 'what a list holds is asked with "includes"'
    if token.type == "COMPARISON":
        return "a comparison has two sides", 'join two comparisons with "and"'
    return f'"{token}" cannot stand here', _wanted(unexpected)


def _wanted(unexpected: UnexpectedInput) -> str:
    accepted = getattr(unexpected, "accepts", None) or getattr(unexpected, "expected", None) or set()
    if "KNOWN" in accepted:
        return 'write "is known" or "is unknown"'
    if "TEXT" in accepted and "NAME" not in accepted:
        return "a pattern stands in single quotes, like 'adm-*'"
    if "NAME" in accepted:
        return "a name, a figure or a bracket is missing"
    if "RSQB" in accepted:
        return "a list is written [otp, passkey]"
    if "RPAR" in accepted:
        return 'a closing bracket may be missing, or an "and" or "or"'
    return 'join conditions with "and" or "or"'
