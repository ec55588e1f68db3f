"""What headers and values are called, in several languages: `vocabulary.toml`, made searchable."""

from __future__ import annotations

import re
import tomllib
import unicodedata
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from functools import cache, lru_cache
from importlib import resources

from keymallet.core.facts.model import Column, Kind, Table

_SHORT = 5
"""Letters; a word shorter than that is not looked for inside longer ones."""
_ENDING = 3
"""Letters; so much may be left over of a word in which another was found ("Passwort-e", "Ander-ung")."""
_WEAKLY = 0.6
_INNER = 0.95
"""How well the last step of a path says what the whole does not."""
_PARTLY_READ, _HARDLY_READ = 0.8, 0.55
"""The best score of a header with words that are not known: of two concepts or more, and of a single one."""
_MOSTLY = 0.7
"""The share of its letters that has to be understood for it to count as partly read."""
_OF_ANYTHING = (Kind.FLAG, Kind.INSTANT, Kind.COUNT, Kind.SPAN)
"""Kinds of fact whose values look alike, whatever they are about."""
_SECRET_HEADER = re.compile(
    r"otp|one.?time|\bpin\b|\bcode|token|secret|seed|recovery|initial|passw|pwd", re.IGNORECASE
)
"""Headers of what works once, or until it is changed."""
_NOT = "not"
_NOT_TAKEN_APART = str.maketrans(
    {"ł": "l", "ı": "i", "ø": "o", "đ": "d", "æ": "ae", "œ": "oe", "Ł": "L", "İ": "I"}
)
"""Letters that Unicode does not take apart into one without an accent and the accent."""
_WITHOUT_BLANKS = re.compile(r"[\u3040-\u30ff\u3400-\u9fff\uff66-\uff9f]")
"""Letters of writing that puts no blanks between words."""
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
    neutral: frozenset[str]
    weight: float = 1.0
    opposite: bool = False
    yes_no: tuple[str, ...] = ()

    def score(self, header: Header) -> float:
        """From 0 to 1. 0 where a concept is missing, or one is there that this does not name.

        A header is read whole: words that are not known leave it open what it is about.
        """
        wanted = self.must | self.may
        pieces = [piece for piece in header.pieces if piece.concepts & wanted]
        if any(not piece.concepts & (wanted | self.neutral) for piece in header.pieces):
            return 0.0
        if any(not any(concept in piece.concepts for piece in pieces) for concept in self.must):
            return 0.0
        if len(pieces) < len(self.must):  # one word cannot stand for two things
            return 0.0
        if not header.letters_left:
            return self.weight
        letters = sum(piece.letters for piece in header.pieces)
        share = letters / (letters + header.letters_left)
        partly = len(self.must) > 1 and share >= _MOSTLY
        return self.weight * min(share, _PARTLY_READ if partly else _HARDLY_READ)


@dataclass(frozen=True)
class Named:
    """How well a header names a fact, from 0 to 1.

    `opposite`: it names the fact's reverse; `yes_no` are the words of ours that yes and no stand for.
    """

    score: float = 0.0
    opposite: bool = False
    yes_no: tuple[str, ...] = ()


@dataclass(frozen=True)
class Vocabulary:
    """All that `vocabulary.toml` says. Words are kept without accents, capitals and blanks."""

    fillers: frozenset[str]
    units: dict[str, str]
    stems: dict[str, frozenset[str]]
    around: frozenset[str]
    neutral: dict[str, frozenset[str]]
    patterns: dict[str, dict[str, list[Pattern]]]
    true: frozenset[str]
    false: frozenset[str]
    none: frozenset[str]
    unknown: frozenset[str]
    accented: frozenset[str]
    words: dict[str, dict[str, str]]


@lru_cache(100_000)
def plain(text: str) -> str:
    """Lower case, without accents, single blanks between words: `Letzte Änderung` → `letzte anderung`."""
    text = _HUMP.sub(" ", text.translate(_NOT_TAKEN_APART))
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
        for word in _letters_of(_listed(text)):
            stems.setdefault(word, set()).add(concept)
    neutral = {table: frozenset(_listed(text)) for table, text in data["neutral"].items()}
    patterns = {
        table: {
            fact: [_pattern(written, neutral[table]) for written in several]
            for fact, several in columns.items()
        }
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
        fillers=frozenset(_letters_of(_listed(data["fillers"]))),
        units={word: unit for unit, text in data["units"].items() for word in _letters_of(_listed(text))},
        stems={stem: frozenset(stems[stem]) for stem in longest_first},
        around=frozenset(_listed(data["steps"]["around"])),
        neutral=neutral,
        patterns=patterns,
        words=words,
        accented=frozenset(
            word.casefold()
            for text in data["concepts"].values()
            for word in _listed(text)
            if not word.isascii() and len(word) > 1
        ),
        **values,
    )


def _listed(text: str) -> list[str]:
    return [word.strip() for word in text.split(",") if word.strip()]


def _letters_of(words: Iterable[str]) -> Iterator[str]:
    """Words as headers are compared; signs alone are none."""
    return filter(None, map(plain, words))


def _pattern(written: str, neutral: frozenset[str]) -> Pattern:
    weight = _WEAKLY if written.startswith("~") else 1.0
    rest, _, words = written.removeprefix("~").partition("=")
    yes_no = tuple(word.strip() for word in words.split("/")) if words else ()
    concepts = rest.removeprefix("!").split()
    may = {concept.removesuffix("?") for concept in concepts if concept.endswith("?")}
    must = {concept for concept in concepts if not concept.endswith("?")}
    return Pattern(frozenset(must), frozenset(may), neutral, weight, rest.startswith("!"), yes_no)


@cache
def understood(text: str) -> Header:
    """Take a header apart into pieces that mean something."""
    known = vocabulary()
    whole = set(plain(text).split())
    rest = f" {plain(text)} "
    pieces: list[tuple[int, Piece]] = []
    for stem, concepts in known.stems.items():
        inside = (len(stem) >= _SHORT and " " not in stem) or bool(_WITHOUT_BLANKS.search(stem))
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


def name_score(names: Sequence[str], table: Table, column: Column) -> Named:
    """How well the name of a column says a fact.

    `names` are the steps that lead to it, outermost first. "profile", "mail" says as much as "mail" does;
    "manager", "mail" does not, for that is somebody else's; of "licence", "expires" nobody knows.
    """
    whole = header_score(" ".join(names), table, column)
    if len(names) < 2:
        return whole
    around = understood(" ".join(names[:-1]))
    known = vocabulary()
    passed_over = known.around | known.neutral.get(table.name, frozenset())
    if any(not piece.concepts & passed_over for piece in around.pieces):
        return whole
    last = header_score(names[-1], table, column)
    best = _INNER * last.score
    if around.letters_left:
        best = min(best, _PARTLY_READ if column.kind in (Kind.TEXT, Kind.WORDS) else _HARDLY_READ)
    return max(whole, replace(last, score=best), key=lambda named: named.score)


def header_score(header: str, table: Table, column: Column) -> Named:
    """How well a header names a fact. "Not locked" names the opposite of "locked"."""
    if not plain(header):
        return Named()
    if plain(header) == plain(column.name):
        return Named(1.0)
    read = understood(header)
    patterns = vocabulary().patterns.get(table.name, {}).get(column.name, [])
    named = [Named(pattern.score(read), pattern.opposite, pattern.yes_no) for pattern in patterns]
    if column.kind in _OF_ANYTHING and read.letters_left:
        # One word more, and it is a yes to something else, or the day of something else.
        named = [replace(each, score=min(each.score, _HARDLY_READ)) for each in named]
    if column.kind is Kind.FLAG and any(_NOT in piece.concepts for piece in read.pieces):
        kept = tuple(piece for piece in read.pieces if _NOT not in piece.concepts)
        rest = Header(kept, read.letters_left)
        named += [Named(pattern.score(rest), not pattern.opposite) for pattern in patterns]
    return max(named, key=lambda each: each.score, default=Named())


def names_a_secret(header: str) -> bool:
    """Whether a column may hold what people prove themselves with: its values are shown to nobody."""
    concepts = {concept for piece in understood(header).pieces for concept in piece.concepts}
    return bool(_SECRET_HEADER.search(header) or {"password", "key"} & concepts)


def accented_letters(header: str) -> int:
    """How many letters of a header belong to known words whose accents are as they should be."""
    folded = unicodedata.normalize("NFC", header).casefold()
    return sum(len(word) for word in vocabulary().accented if word in folded)


def unit_named(header: str) -> str:
    """The unit of time that a header names, as a map says it; empty where it names none, or several."""
    units = vocabulary().units
    named = {units[word] for word in plain(header).split() if word in units}
    return named.pop() if len(named) == 1 else ""


def word_for(table: str, column: Column, value: str) -> str | None:
    """Our word that a value stands for; None if it is not known to be one."""
    if value in column.words:
        return value
    wanted = squeezed(value)
    own = {squeezed(word): word for word in column.words}
    known = vocabulary().words
    meant = own.get(wanted) or known.get(f"{table}.{column.name}", {}).get(wanted)
    # Lists of kinds of proof are written in the words that those kinds are.
    kind = known["factor.kind"].get(wanted) if "hardware-key" in column.words else None
    return meant or kind
