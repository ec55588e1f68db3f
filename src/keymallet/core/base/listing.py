"""Many names in short: the first few, and how many more there are."""

from __future__ import annotations

from collections.abc import Sequence

import polars as pl

MOST_NAMED = 3


def first_few(name: pl.Expr) -> list[pl.Expr]:
    """What to keep of each group, for `listed`: the first few names, and how many there are."""
    return [name.head(MOST_NAMED).alias("names"), pl.len().cast(pl.Int64).alias("all")]


def listed(lead: pl.Expr) -> pl.Expr:
    """`a, b, c and 2 more`, with something in front, out of what `first_few` kept."""
    text = lead + pl.col("names").list.join(", ")
    more = pl.col("all") - MOST_NAMED
    return pl.when(more > 0).then(pl.format("{} and {} more", text, more)).otherwise(text)


def some_names(names: Sequence[object] | pl.Series, most: int = MOST_NAMED, *, of: int | None = None) -> str:
    """`a, b, c and 2 more`; empty for none. `of` so many, if not all the names are given."""
    shown = ", ".join(map(str, names[:most]))
    return f"{shown} {and_more((len(names) if of is None else of) - most)}".rstrip()


def and_more(number: int, noun: str = "", plural: str = "") -> str:
    """`and 1,412 more`, `and 1 more rule`; empty if there are no more."""
    if number <= 0:
        return ""
    return (
        f"and {how_many(number, f'more {noun}', plural and f'more {plural}')}"
        if noun
        else f"and {number:,} more"
    )


def shortened(text: str, most: int = 40) -> str:
    """The text, cut off with `…` where it is longer than `most` characters."""
    return text if len(text) <= most else f"{text[: most - 3]}…"


def how_many(number: int, noun: str, plural: str = "") -> str:
    """`1 account`, `1,412 accounts`."""
    return f"{number:,} {noun if number == 1 else plural or noun + 's'}"
