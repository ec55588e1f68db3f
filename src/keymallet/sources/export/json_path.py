"""Where something stands in a JSON record: `name.first`, `mails[0]`, `mails[type=work].value`.

Steps stand between dots; one that holds a dot itself stands in double quotes. `[]` is every member of a
list, `[0]` the first, `[type=work]` the members whose `type` is `work`. Inside a table's `rows`, a path
that begins with `^` is of the record around them, and `@` is the member itself.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

_STEP = re.compile(r'(?:"(?P<quoted>[^"]*)"|(?P<plain>[^."\[\]]+))?(?P<brackets>(?:\[[^\]]*\])*)(?:\.|$)')
_BRACKET = re.compile(r"\[([^\]]*)\]")
OUTSIDE = "^"
MEMBER = "@"


@dataclass(frozen=True)
class JsonPath:
    """A path, read. `outside`: it is of the record around, not of the member at hand.

    Steps are names, numbers (a place in a list), None (every member) or pairs (a name and its value).
    """

    text: str
    steps: tuple[str | int | tuple[str, str] | None, ...]
    outside: bool = False

    @property
    def is_many(self) -> bool:
        """Whether it can lead to several values."""
        return any(step is None or isinstance(step, tuple) for step in self.steps)

    def found_in(self, value: Any) -> list[Any]:
        """All that stands there; nothing where the way breaks off. A null is nothing."""
        if isinstance(value, dict) and len(self.steps) > 1:
            whole = value.get(self.text)
            if whole is not None:
                return [whole]
        values = [value]
        for step in self.steps:
            values = [member for item in values for member in _taken(item, step)]
            if not values:
                break
        return [item for item in values if item is not None]

    def is_told_in(self, value: Any) -> bool:
        """Whether the record says anything under this path, if only that there is nothing."""
        for step in self.steps[:-1]:
            if not isinstance(step, str) or not isinstance(value, dict):
                return True
            value = value.get(step)
        last = self.steps[-1] if self.steps else None
        return not isinstance(last, str) or (isinstance(value, dict) and last in value)


def _taken(value: Any, step: str | int | tuple[str, str] | None) -> Iterator[Any]:
    if isinstance(step, str):
        if isinstance(value, dict) and step in value:
            yield value[step]
    elif isinstance(value, list):
        if step is None:
            yield from value
        elif isinstance(step, int):
            yield from value[step : step + 1]
        else:
            name, wanted = step
            yield from (item for item in value if isinstance(item, dict) and str(item.get(name)) == wanted)


def path_fault(text: str) -> str:
    """What is wrong with a path, or an empty string."""
    try:
        parse_path(text)
    except ValueError as error:
        return str(error)
    return ""


def parse_path(text: str) -> JsonPath:
    """Read a path. Raises ValueError saying what is wrong with it."""
    outside = text.startswith(OUTSIDE)
    rest = text.removeprefix(OUTSIDE)
    if rest == MEMBER:
        return JsonPath(text, (), outside)
    steps: list[str | int | tuple[str, str] | None] = []
    place = 0
    while place < len(rest):
        match = _STEP.match(rest, place)
        if match is None or match.end() == place or not (match[0].strip(".")):
            raise ValueError(f'"{text}" is no path: a step like name, "name", name[0] or name[] is missing')
        name = match["quoted"] if match["quoted"] is not None else match["plain"]
        if name is not None:
            steps.append(name)
        steps += [_bracket(inner, text) for inner in _BRACKET.findall(match["brackets"])]
        place = match.end()
    if not steps or rest.endswith("."):
        raise ValueError(f'"{text}" is no path: it ends with nothing')
    return JsonPath(rest, tuple(steps), outside)


def _bracket(inner: str, text: str) -> int | tuple[str, str] | None:
    if not inner:
        return None
    if inner.isascii() and inner.isdigit():
        return int(inner)
    name, equals, value = inner.partition("=")
    if not equals or not name.strip():
        raise ValueError(f'"[{inner}]" in "{text}" is none of [], [0] and [name=value]')
    return name.strip(), value.strip().strip("\"'")
