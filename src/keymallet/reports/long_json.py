"""JSON for people and programs alike, of documents with lists too long to stand in memory."""

from __future__ import annotations

import secrets
from collections.abc import Iterable, Iterator, Mapping
from itertools import islice
from typing import Any

import msgspec

_AT_ONCE = 1_000
"""So many members of a list are written at once."""


def place_of_list() -> str:
    """A value that stands in a document where a list belongs; no text that was read is like it."""
    return secrets.token_hex(16)


def formatted(document: Any, lists: Mapping[str, Iterable[Any]]) -> Iterator[bytes]:
    """The document with two blanks for each level, and a line feed behind it, piece by piece.

    `lists` are the members of each list by what `place_of_list` gave for it, in the order in which they
    stand in the document.
    """
    rest = msgspec.json.format(msgspec.json.encode(document))
    for place, members in lists.items():
        before, _, rest = rest.partition(b'"' + place.encode() + b'"')
        yield before
        line = before[before.rfind(b"\n") + 1 :]
        yield from _listed(members, line[: len(line) - len(line.lstrip())])
    yield rest + b"\n"


def _listed(members: Iterable[Any], indent: bytes) -> Iterator[bytes]:
    """A list whose line begins with this indent."""
    between = b"["
    waiting = iter(members)
    while some := list(islice(waiting, _AT_ONCE)):
        told = msgspec.json.format(msgspec.json.encode(some))
        yield between + told[1:-2].replace(b"\n", b"\n" + indent)
        between = b","
    yield b"[]" if between == b"[" else b"\n" + indent + b"]"
