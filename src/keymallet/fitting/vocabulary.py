"""What headers and values are called, in several languages: `vocabulary.toml`, made searchable."""

from __future__ import annotations

import re
import tomllib
import unicodedata
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cache, lru_cache
from importlib import resources

from keymallet.core.facts.model import Column, Table

_SHORT = 5
"""Letters; a word shorter than that is not looked for inside longer ones."""
_ENDING = 3
"""Letters; so much may be left over of a word in which another was found ("Passwort-e", "Ander-ung")."""
_WEAKLY = 0.6
_INNER = 0.95
"""How well the last step of a path says what the whole does not."""
_OTHERS = frozenset({"manager", "owner", "key", "factor", "role", "group", "assigner", "approver"})
"""Steps of a path that lead away from the record to somebody or something else."""
_HUMP = re.compile(r"(?<=[a-z0-9])(?=[A-Z])|(?<=[A-Z])(?=[A-Z][a-z])")
_NO_LETTER = re.compile(r"[\W_]+")


@dataclass(frozen=True)
class Piece:
    """A stretch of a header that means something: `concepts` are what it can mean."""

    letters: int
    concepts: frozenset[str]


@dataclass(frozen=True)
class Header:
    """A header as understood: its pieces, and the letters of what is not understood."""

    pieces: tuple[Piece, ...]
    letters_left: int


@dataclass(frozen=True)
class Pattern:
    """Concepts that make a header a certain fact; `may` need not be there. `opposite`: the fact's reverse."""

    must: frozenset[str]
    may: frozenset[str]
    weight: float = 1.0
    opposite: bool = False

    def score(self, header: Header) -> float:
        """From 0 to 1: the share of the header's letters that this explains, 0 where a concept is missing."""
        wanted = self.must | self.may
        pieces = [piece for piece in header.pieces if piece.concepts & wanted]
        if any(not any(concept in piece.concepts for piece in pieces) for concept in self.must):
            return 0.0
        if len(pieces) < len(self.must):  # one word cannot stand for two things
            return 0.0
        letters = sum(piece.letters for piece in header.pieces) + header.letters_left
        share = sum(piece.letters for piece in pieces) / letters if letters else 1.0
        return self.weight * share


@dataclass(frozen=True)
class Vocabulary:
    """All that `vocabulary.toml` says. Words are kept without accents, capitals and blanks."""

    fillers: frozenset[str]
    stems: dict[str, frozenset[str]]
    patterns: dict[str, dict[str, list[Pattern]]]
    true: frozenset[str]
    false: frozenset[str]
    none: frozenset[str]
    unknown: frozenset[str]
    words: dict[str, dict[str, str]]


@lru_cache(100_000)
def plain(text: str) -> str:
    """Lower case, without accents, single blanks between words: `Letzte Änderung` → `letzte anderung`."""
    text = _HUMP.sub(" ", text)
    letters = unicodedata.normalize("NFKD", text)
    letters = "".join(character for character in letters if not unicodedata.combining(character))
    return _NO_LETTER.sub(" ", letters.casefold()).strip()


def squeezed(value: str) -> str:
    """A value without what is written differently by different people; signs alone stay as they are."""
    return plain(value).replace(" ", "") or value.strip()


@cache
def vocabulary() -> Vocabulary:
    """Read it, once."""
    data = tomllib.loads(resources.files(__package__).joinpath("vocabulary.toml").read_text("utf-8"))
    stems: dict[str, set[str]] = {}
    for concept, text in data["concepts"].items():
        for word in _listed(text):
            stems.setdefault(plain(word), set()).add(concept)
    patterns = {
        table: {fact: [_pattern(written) for written in several] for fact, several in columns.items()}
        for table, columns in data["facts"].items()
    }
    values = {
        name: frozenset(squeezed(word) for word in _listed(text)) for name, text in data["values"].items()
    }
    words = {
        name: {squeezed(word): meaning for meaning, text in several.items() for word in _listed(text)}
        for name, several in data["words"].items()
    }
    # The longest first: "last name" is no "last" and "name".
    longest_first = sorted(stems, key=lambda stem: (-len(stem), stem))
    return Vocabulary(
        fillers=frozenset(plain(word) for word in _listed(data["fillers"])),
        stems={stem: frozenset(stems[stem]) for stem in longest_first},
        patterns=patterns,
        words=words,
        **values,
    )


def _listed(text: str) -> list[str]:
    return [word.strip() for word in text.split(",") if word.strip()]


def _pattern(written: str) -> Pattern:
    weight = _WEAKLY if written.startswith("~") else 1.0
    rest = written.removeprefix("~")
    concepts = rest.removeprefix("!").split()
    may = {concept.removesuffix("?") for concept in concepts if concept.endswith("?")}
    must = {concept for concept in concepts if not concept.endswith("?")}
    return Pattern(frozenset(must), frozenset(may), weight, rest.startswith("!"))


@cache
def understood(text: str) -> Header:
    """Take a header apart into pieces that mean something."""
    known = vocabulary()
    whole = set(plain(text).split())
    rest = f" {plain(text)} "
    pieces: list[tuple[int, Piece]] = []
    for stem, concepts in known.stems.items():
        inside = len(stem) >= _SHORT and " " not in stem
        wanted = stem if inside else f" {stem} "
        while (place := rest.find(wanted)) >= 0:
            blank = " " * len(wanted)
            rest = rest[:place] + blank + rest[place + len(wanted) :]
            pieces.append((place, Piece(len(stem.replace(" ", "")), concepts)))
    left = 0
    for token in rest.split():
        if token in known.fillers or token.isdigit() or (token not in whole and len(token) <= _ENDING):
            continue
        parts = _apart(token, known)
        pieces += [(rest.find(token), piece) for piece in parts or ()]
        left += 0 if parts else len(token)
    return Header(tuple(piece for _, piece in sorted(pieces, key=lambda item: item[0])), left)


def _apart(token: str, known: Vocabulary) -> list[Piece] | None:
    """A word made of known words alone, such as "pwdset": its pieces. None if it is no such word."""
    ways: list[list[Piece] | None] = [[], *[None] * len(token)]
    for end in range(1, len(token) + 1):
        for start in range(max(end - 16, 0), end):
            before, part = ways[start], token[start:end]
            if before is None or ways[end] is not None or (len(part) < 2 and part != "s"):
                continue
            if part in known.stems:
                ways[end] = [*before, Piece(len(part), known.stems[part])]
            elif part in known.fillers or part == "s":
                ways[end] = before
    return ways[-1] or None


def name_score(names: Sequence[str], table: Table, column: Column) -> tuple[float, bool]:
    """How well the name of a column says a fact, from 0 to 1, and whether it says its opposite.

    `names` are the steps that lead to it, outermost first. "profile", "mail" says as much as "mail" does;
    "manager", "mail" does not, for that is somebody else's.
    """
    whole = header_score(" ".join(names), table, column)
    around = {
        concept for name in names[:-1] for piece in understood(name).pieces for concept in piece.concepts
    }
    if len(names) < 2 or around & _OTHERS:
        return whole
    last, opposite = header_score(names[-1], table, column)
    return max(whole, (_INNER * last, opposite), key=lambda item: item[0])


def header_score(header: str, table: Table, column: Column) -> tuple[float, bool]:
    """How well a header names a fact, from 0 to 1, and whether it names its opposite."""
    if plain(header) == plain(column.name):
        return 1.0, False
    read = understood(header)
    patterns = vocabulary().patterns.get(table.name, {}).get(column.name, [])
    scores = [(pattern.score(read), pattern.opposite) for pattern in patterns]
    return max(scores, key=lambda item: item[0], default=(0.0, False))


def word_for(table: str, column: Column, value: str) -> str | None:
    """Our word that a value stands for; None if it is not known to be one."""
    if value in column.words:
        return value
    wanted = squeezed(value)
    own = {squeezed(word): word for word in column.words}
    return own.get(wanted) or vocabulary().words.get(f"{table}.{column.name}", {}).get(wanted)
