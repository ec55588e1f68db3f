"""TOML text as data, with the place of every value and all its faults collected.

`TomlDocument.read` fills a msgspec structure from one table of the document. What does not fit is
noted as a problem at its own line and column; nothing is raised until `raise_problems`.
"""

from __future__ import annotations

import re
import tomllib
from functools import cache, cached_property
from typing import Any, TypeVar, get_args, get_origin

import msgspec
import tree_sitter
import tree_sitter_toml

from keymallet.core.base.nearest import did_you_mean
from keymallet.core.base.problems import Excerpt, KeymalletError, Place, Problem

Path = tuple[str | int, ...]
S = TypeVar("S", bound=msgspec.Struct)

_SPOKEN = {
    "str": "text",
    "int": "a whole number",
    "float": "a number",
    "bool": "true or false",
    "array": "a list",
    "object": "a table",
    "datetime": "a date",
    "date": "a date",
    "time": "a time of day",
    "null": "nothing",
}


class TomlDocument:
    """One TOML file's text, its data, and the problems found in it so far."""

    def __init__(self, text: str, name: str) -> None:
        self.text = text.removeprefix("\ufeff")
        self.name = name
        self.problems: list[Problem] = []
        try:
            self.data: dict[str, Any] = tomllib.loads(self.text)
        except tomllib.TOMLDecodeError as error:
            raise KeymalletError(self._syntax_problem(str(error))) from None
        except RecursionError:
            raise KeymalletError(Problem("tables or lists are nested too deep", Place(name, 1, 1))) from None

    def _syntax_problem(self, message: str) -> Problem:
        lines = self.text.split("\n")
        match = re.search(r"\s*\(at (?:line (\d+), column (\d+)|end of document)\)$", message)
        line, column = (int(match[1]), int(match[2])) if match and match[1] else (len(lines), 1)
        plain = message[: match.start()] if match else message
        # Names come as a tuple of Python's: ('rule', 'a') is rule.a to whoever wrote it.
        plain = re.sub(
            r"\(((?:'[^']*',? ?)+)\)", lambda names: ".".join(re.findall("'([^']*)'", names[1])), plain
        )
        excerpt = Excerpt(lines[line - 1], max(column - 1, 0), 1) if match and match[1] else None
        hint = (
            "each table and each key can stand only once" if "twice" in plain or "overwrite" in plain else ""
        )
        return Problem(
            f"this is not TOML: {plain[:1].lower()}{plain[1:]}", Place(self.name, line, column), excerpt, hint
        )

    # places

    @cached_property
    def _positions(self) -> dict[Path, tree_sitter.Node]:
        parser = tree_sitter.Parser(tree_sitter.Language(tree_sitter_toml.language()))
        positions: dict[Path, tree_sitter.Node] = {}
        _index(parser.parse(self.text.encode()).root_node, (), positions, {})
        return positions

    def place(self, path: Path, item: str = "") -> Place:
        """Where the value at `path` stands, else the nearest table around it."""
        node = self._node(path)
        if node is None:
            return Place(self.name, 1, 1, item)
        line, column = self._line_and_column(node.start_byte)
        return Place(self.name, line, column, item)

    def _node(self, path: Path) -> tree_sitter.Node | None:
        while path and path not in self._positions:
            path = path[:-1]
        return self._positions.get(path)

    def _line_and_column(self, byte: int) -> tuple[int, int]:
        before = self.text.encode()[:byte].decode()
        return before.count("\n") + 1, len(before) - (before.rfind("\n") + 1) + 1

    def fault(self, path: Path, message: str, hint: str = "", span: tuple[int, int] | None = None) -> None:
        """Note a problem with the value at `path`; `span` are characters of its text, if it is text."""
        item = spoken_path(path)
        node = self._node(path)
        place, excerpt = self.place(path, item), None
        if node is not None:
            start = node.start_byte
            length = 1 if span is None else max(span[1] - span[0], 1)
            if span is not None and node.type == "string":
                start += self._offset_in_string(node, span[0])
            line, column = self._line_and_column(start)
            text = self.text.split("\n")[line - 1].rstrip("\r")
            if span is None:
                end = self._line_and_column(node.end_byte)
                length = end[1] - column if end[0] == line else len(text) - column + 1
            place = Place(self.name, line, column, item)
            excerpt = Excerpt(text, column - 1, max(1, min(length, len(text) - column + 2)))
        self.problems.append(Problem(message, place, excerpt, hint))

    def _offset_in_string(self, node: tree_sitter.Node, characters: int) -> int:
        """Bytes from the opening quote to the given character of the string's value."""
        raw = self.text.encode()[node.start_byte : node.end_byte].decode()
        quotes = 3 if raw[:3] in ('"""', "'''") else 1
        place = quotes
        if quotes == 3 and raw[3:4] == "\n":
            place += 1
        while characters > 0 and place < len(raw):
            if raw[0] == '"' and raw[place] == "\\":
                escape = _ESCAPE.match(raw, place)
                place = escape.end() if escape else place + 2
                characters -= 0 if escape and escape[0][1:2] in " \t\n\r" else 1
            else:
                place += 1
                characters -= 1
        return len(raw[:place].encode())

    # typed reading

    def read(self, struct: type[S], data: Any, path: Path = ()) -> S | None:
        """Fill a structure; None if anything in it does not fit (every misfit is noted)."""
        if not isinstance(data, dict):
            self.fault(path, f"this has to be a table, not {_spoken_type(data)}")
            return None
        before = len(self.problems)
        fields = _fields(struct)
        for key in data.keys() - fields.keys():
            self.fault(
                (*path, key),
                f'there is no setting "{key}" here',
                did_you_mean(key, fields) or f"there are: {', '.join(fields)}",
            )
        values: dict[str, Any] = {}
        for key, field in fields.items():
            if key not in data:
                if field.required:
                    self.fault(path, f'"{key}" is missing', f"add {key} = …")
                continue
            values[field.name] = self._value(field.type, data[key], (*path, key))
        return struct(**values) if len(self.problems) == before else None

    def _value(self, wanted: Any, data: Any, path: Path) -> Any:
        if isinstance(wanted, type) and issubclass(wanted, msgspec.Struct):
            return self.read(wanted, data, path)
        if get_origin(wanted) is dict and isinstance(data, dict):
            inner = get_args(wanted)[1]
            return {key: self._value(inner, value, (*path, key)) for key, value in data.items()}
        if get_origin(wanted) in (list, tuple) and isinstance(data, list):
            inner = get_args(wanted)[0]
            if isinstance(inner, type) and issubclass(inner, msgspec.Struct):
                return tuple(self.read(inner, each, (*path, place)) for place, each in enumerate(data))
        structs = [
            part for part in get_args(wanted) if isinstance(part, type) and issubclass(part, msgspec.Struct)
        ]
        if structs and isinstance(data, dict):
            return self.read(structs[0], data, path)
        try:
            return msgspec.convert(data, wanted)
        except msgspec.ValidationError as error:
            self.fault(path, _spoken_misfit(str(error)))
            return None

    def raise_problems(self) -> None:
        """Raise everything noted, in the order of the lines, if there is anything."""
        if self.problems:
            ordered = sorted(
                self.problems,
                key=lambda problem: (problem.place.line, problem.place.column) if problem.place else (0, 0),
            )
            raise KeymalletError(dict.fromkeys(ordered))


@cache
def _fields(struct: type[msgspec.Struct]) -> dict[str, msgspec.structs.FieldInfo]:
    return {field.encode_name: field for field in msgspec.structs.fields(struct)}


_ESCAPE = re.compile(r"\\(?:u[0-9A-Fa-f]{4}|U[0-9A-Fa-f]{8}|[ \t]*\r?\n[ \t\r\n]*|.)")


def spoken_path(path: Path) -> str:
    """Write `("rule", "x", "must")` as `rule.x, must`."""
    texts = [str(part) if isinstance(part, str) else f"[{part + 1}]" for part in path]
    return ".".join(texts[:2]) + "".join(f", {text}" for text in texts[2:])


def _spoken_type(value: Any) -> str:
    names = {
        dict: "a table",
        list: "a list",
        str: "text",
        bool: "true or false",
        int: "a number",
        float: "a number",
    }
    return names.get(type(value), "a date or time")


def _spoken_misfit(message: str) -> str:
    match = re.match(r"Expected `([^`]+)`, got `([^`]+)`", message)
    if match is None:
        return message.split(" - at")[0]
    wanted = " or ".join(_SPOKEN.get(part.strip(), part.strip()) for part in match[1].split("|"))
    return f"this has to be {wanted}, not {_SPOKEN.get(match[2], match[2])}"


def _index(
    node: tree_sitter.Node, path: Path, positions: dict[Path, tree_sitter.Node], rows: dict[Path, int]
) -> None:
    """Note where each value of the document stands. Of a table, its header counts."""
    for child in node.named_children:
        if child.type in ("table", "table_array_element"):
            header = child.named_children[0]
            inner: Path = _key(header)
            if child.type == "table_array_element":
                rows[inner] = rows.get(inner, -1) + 1
                inner = (*inner, rows[inner])
            positions[inner] = header
            for length in range(1, len(inner)):
                positions.setdefault(inner[:length], header)
            _index(child, inner, positions, rows)
        elif child.type == "pair":
            key, value = child.named_children[0], child.named_children[-1]
            inner = (*path, *_key(key))
            for length in range(len(path) + 1, len(inner)):
                positions.setdefault(inner[:length], key)
            positions[inner] = value
            _index(value, inner, positions, rows)
        elif node.type == "array" and child.type != "comment":
            place = (
                *path,
                sum(1 for known in positions if known[:-1] == path and isinstance(known[-1], int)),
            )
            positions[place] = child
            _index(child, place, positions, rows)


def _key(node: tree_sitter.Node) -> tuple[str, ...]:
    if node.type == "dotted_key":
        return tuple(part for child in node.named_children for part in _key(child))
    text = (node.text or b"").decode()
    return (next(iter(tomllib.loads(f"{text} = 1"))),)
