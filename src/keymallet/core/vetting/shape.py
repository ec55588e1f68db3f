"""Whether planned accounts are written as their target wants them."""

from __future__ import annotations

from collections.abc import Iterable
from fnmatch import fnmatchcase

import polars as pl

from keymallet.core.facts.declaration import ACCOUNT
from keymallet.core.facts.model import Kind
from keymallet.core.vetting.batch import Batch
from keymallet.core.vetting.held_against import Marks
from keymallet.core.vetting.target import Gives

LISTS = ("groups", "entitlements")
_TEXTS = tuple(
    column.name for column in ACCOUNT.columns if column.kind in (Kind.TEXT, Kind.WORDS) and not column.across
)
_DAMAGED = (
    "\N{REPLACEMENT CHARACTER}"
    # Two bytes of UTF-8, read as if each were a letter of Latin-1 or Windows-1252.
    "|[\u00c3\u00c2][\u0080-\u00bf\u0152\u0153\u0160\u0161\u0178\u017d\u017e\u0192\u02c6\u02dc"
    "\u2013\u2014\u2018-\u201e\u2020-\u2022\u2026\u2030\u2039\u203a\u20ac\u2122]"
    # The dash and the quotes of three bytes, the same way; controls of Latin-1 that no name holds.
    "|\u00e2\u20ac|[\u0080-\u009f]"
    # A question mark within a word stands for a letter that an encoding did not have.
    "|\\p{L}\\?+\\p{L}"
)


def marks_of_shape(batch: Batch) -> Marks:
    """What is missing, damaged, not taken, out of order, against the pattern, and given beyond the usual."""
    frame = batch.accounts.with_columns(batch.written.alias("name"))
    target = batch.target
    # An account without a name is none, whatever the target.
    required = dict.fromkeys(("name", *target.required))
    marks = {
        "missing": _listed(frame, ((name, _is_missing(frame, name)) for name in required)),
        "damaged": _listed(
            frame, ((name, _is_damaged(frame, name)) for name in _TEXTS if name in frame.columns)
        ),
        "not-taken": _listed(frame, _not_taken(batch, frame)),
    }
    if target.name_pattern:
        marks["name-fits"] = frame["name"].str.contains(f"^(?:{target.name_pattern})$")
    if target.ordered_by and target.ordered_by in frame.columns:
        marks["in-order"] = _in_order(frame[target.ordered_by].cast(pl.String))
    for name in LISTS:
        marks |= _given(frame, name, target.gives)
    return marks


def _is_missing(frame: pl.DataFrame, name: str) -> pl.Expr:
    if name not in frame.columns:
        return pl.lit(True)
    kind = frame.schema[name]
    empty = pl.col(name).list.len() == 0 if isinstance(kind, pl.List) else pl.lit(False)
    blank = pl.col(name).str.strip_chars() == "" if kind == pl.String else pl.lit(False)
    return (pl.col(name).is_null() | empty | blank).fill_null(True)


def _is_damaged(frame: pl.DataFrame, name: str) -> pl.Expr:
    text = pl.col(name)
    if isinstance(frame.schema[name], pl.List):
        text = text.cast(pl.List(pl.String)).list.join("\n")
    return text.cast(pl.String).str.contains(_DAMAGED).fill_null(False)


def _not_taken(batch: Batch, frame: pl.DataFrame) -> Iterable[tuple[str, pl.Expr]]:
    """What the target would refuse or cut, in words, and in which rows."""
    for name, longest in batch.target.longest.items():
        if name in frame.columns:
            too_long = (pl.col(name).str.len_chars() > longest).fill_null(False)
            yield f"{name}: longer than {longest} characters", too_long
    for name, pattern in batch.target.characters.items():
        if name in frame.columns:
            outside = ~pl.col(name).str.contains(f"^(?:{pattern})$")
            yield f"{name}: other characters than {pattern}", outside.fill_null(False)


def _in_order(keys: pl.Series) -> pl.Series:
    """Whether each row stands behind none with a greater key: byte by byte, as sorted files are read."""
    # A running maximum of texts: by their rank, which is a number.
    rank = keys.rank("dense").cast(pl.Int64)
    return (rank >= rank.cum_max().shift(1, fill_value=0)).fill_null(True)


def _listed(frame: pl.DataFrame, told: Iterable[tuple[str, pl.Expr]]) -> pl.Series:
    """Of each row the words whose condition holds, in their order."""
    words = [pl.when(holds).then(pl.lit(word)) for word, holds in told]
    if not words:
        return pl.Series([[]], dtype=pl.List(pl.String)).new_from_index(0, frame.height)
    listed = frame.with_columns(pl.concat_list(words).list.drop_nulls().alias("listed words"))
    return listed["listed words"].cast(pl.List(pl.String))


def _given(frame: pl.DataFrame, name: str, gives: tuple[Gives, ...]) -> Marks:
    """Of each row what is missing of a list, and what is beyond; not known where nothing is said of it."""
    saying = [(each, getattr(each, name)) for each in gives if getattr(each, name) is not None]
    if not saying:
        return {}
    sorts = frame.select(
        *(pl.col(fact).cast(pl.String) if fact in frame.columns else pl.lit(None, dtype=pl.String).alias(fact)
          for fact in ("unit", "kind", "title"))
    )  # fmt: skip
    kinds = sorts.unique()
    wanted, allowed = [], []
    for unit, kind, title in kinds.iter_rows():
        fitting = [
            (each, words)
            for each, words in saying
            if _fits(each.units, unit) and _fits(each.kinds, kind) and _fits(each.titles, title)
        ]
        told = sorted({word for _, words in fitting for word in words})
        wanted.append(told if fitting else None)
        allowed.append(told if fitting and not any(each.more for each, _ in fitting) else None)
    lists = pl.List(pl.String)
    kinds = kinds.with_columns(
        pl.Series("wanted", wanted, dtype=lists), pl.Series("allowed", allowed, dtype=lists)
    )
    has = (
        frame[name].cast(lists)
        if name in frame.columns
        else pl.Series([[]], dtype=lists).new_from_index(0, frame.height)
    )
    rows = sorts.with_columns(has.alias("has"))
    rows = rows.join(kinds, on=["unit", "kind", "title"], how="left", maintain_order="left", nulls_equal=True)
    has_all = pl.col("has").fill_null(pl.lit([], dtype=lists))
    done = rows.select(
        missing=pl.when(pl.col("wanted").is_not_null()).then(pl.col("wanted").list.set_difference(has_all)),
        surplus=pl.when(pl.col("allowed").is_not_null()).then(has_all.list.set_difference("allowed")),
    )
    return {f"{name}-missing": done["missing"], f"{name}-surplus": done["surplus"]}


def _fits(patterns: tuple[str, ...], value: str | None) -> bool:
    return not patterns or (value is not None and any(fnmatchcase(value, pattern) for pattern in patterns))
