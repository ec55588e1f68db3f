"""Names of months in the languages that exports are written in."""

from __future__ import annotations

import tomllib
from functools import cache
from importlib import resources

import polars as pl

ENGLISH = "January February March April May June July August September October November December".split()


@cache
def month_names() -> dict[str, int]:
    """The number of the month, 1 to 12, by its name as it may be written: lower case, and as it stands."""
    data = tomllib.loads(resources.files(__package__).joinpath("months.toml").read_text("utf-8"))
    return {
        name: number
        for months in data.values()
        for number, names in enumerate(months.split(","), 1)
        for name in names.split()
    }


@cache
def _spellings() -> tuple[list[str], list[str]]:
    """All spellings, the longest first, and the English name of each."""
    names = {
        spelling: ENGLISH[number - 1]
        for name, number in month_names().items()
        for spelling in (name, name.lower(), name.capitalize(), name.upper())
    }
    longest_first = sorted(names, key=lambda name: (-len(name), name))
    return longest_first, [names[name] for name in longest_first]


def month_number(word: str) -> int:
    """Which month a word is, 1 to 12; 0 where it is none. A point may stand behind a short form."""
    wanted = word.removesuffix(".").casefold()
    return _by_folded().get(wanted, 0)


@cache
def _by_folded() -> dict[str, int]:
    return {name.casefold(): number for name, number in month_names().items()}


def in_english(text: pl.Series) -> pl.Series:
    """The same dates, the names of their months in English."""
    spellings, english = _spellings()
    marked = pl.DataFrame({"text": text}).select(
        pl.col("text")
        .str.replace_all(r"(\p{L})\.", "${1}")
        .str.replace_many(spellings, english, leftmost=True)
    )
    return marked.to_series()
