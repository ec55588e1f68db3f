"""First passwords, looked at: how strong, made of what, shared or of one pattern. None of them is kept.

The number of guesses is estimated by zxcvbn, with its lists of common passwords, names and words. What it
cannot know is looked for here: the person's own names, those of the organisation, seasons, months and years
of several languages, runs on several keyboards, and one pattern through a batch with a part that counts up.
"""

from __future__ import annotations

import re
from collections.abc import Collection, Iterable
from datetime import datetime

import polars as pl
from zxcvbn_rs_py import zxcvbn

from keymallet.core.facts.declaration import PLANNED
from keymallet.core.vetting.batch import PASSWORD, Batch
from keymallet.core.vetting.held_against import Marks

COMMON_BELOW = 6
"""A password found in fewer than ten to this many guesses stands on a list of common ones, or nearly so."""
_LEAST_NAME = 3
"""Letters that a part of a name has to have before it is looked for in a password."""
_LEAST_WITHIN = 5
"""Letters of a word that is found within others; a shorter one has to stand alone: chance makes it too."""
_LONGEST_ESTIMATED = 100
"""Characters that are looked at to estimate; what is longer is no easier to guess."""
_NAMED = 10
_RUN = 4
"""Keys side by side, or digits one after the other, that make a run."""

SEASONS = (
    "spring summer autumn winter fruehling frühling sommer herbst printemps ete été automne hiver"
    " primavera estate autunno inverno verano otono otoño invierno"
).split()
MONTHS = (
    "january february march april june july august september october november december"
    " januar jänner februar märz maerz mai juni juli oktober dezember"
    " janvier fevrier février mars avril juin juillet aout août septembre octobre novembre decembre décembre"
    " gennaio febbraio marzo aprile maggio giugno luglio agosto settembre ottobre dicembre"
    " enero febrero abril mayo junio julio septiembre octubre noviembre diciembre"
).split()
_KEYBOARDS = (
    "qwertyuiop asdfghjkl zxcvbnm qwertzuiop yxcvbnm azertyuiop qsdfghjklm 1234567890"
    " abcdefghijklmnopqrstuvwxyz 1qaz2wsx3edc4rfv5tgb6zhn 1q2w3e4r5t6y7u8i9o0p"
).split()
_LEET = str.maketrans(
    {"0": "o", "1": "i", "3": "e", "4": "a", "5": "s", "7": "t", "@": "a", "$": "s", "!": "i"}
)
"""Signs that stand for letters in passwords."""
_DIGITS = re.compile(r"[0-9]+")
_LETTERS = re.compile(r"[^\W\d_]+")


def _any_of(words: Iterable[str]) -> re.Pattern[str]:
    """What finds one of these words: a long one anywhere, a short one where it stands between other signs."""
    ways = (
        word if len(word) >= _LEAST_WITHIN else rf"(?<![^\W\d_]){word}(?![^\W\d_])" for word in sorted(words)
    )
    return re.compile("|".join(ways))


_SEASON, _MONTH = _any_of(SEASONS), _any_of(MONTHS)
_CLASSES = (r"\p{Ll}", r"\p{Lu}", r"\p{Nd}", r"[^\p{Ll}\p{Lu}\p{Nd}]")


def marks_of_passwords(batch: Batch, organisation: str, persons: pl.DataFrame, at: datetime) -> Marks:
    """All that is told of first passwords; nothing where the batch gives none.

    `persons` has the names and the unit of those the rows are for, row by row, as far as they are known.
    """
    passwords = _passwords(batch)
    if passwords is None:
        return {}
    known = passwords.set(passwords == "", None)
    strengths = {value: _estimated(value) for value in known.drop_nulls().unique()}
    counting = _of_one_pattern(known)
    named = _parts([organisation])
    return {
        "initial-length": known.str.len_chars().cast(pl.Int64),
        "initial-classes": _classes(known),
        "initial-strength": known.replace_strict(
            list(strengths), list(strengths.values()), default=None, return_dtype=pl.Int64
        ),
        "initial-shared-with": _shared(known, batch.accounts["name"]),
        "initial-pattern-with": counting,
        "initial-guessable": _guessable(batch, known, strengths, named, persons, at.year, counting),
    }


def _passwords(batch: Batch) -> pl.Series | None:
    """The first password of each account, in their order; None where the batch gives none at all."""
    planned = batch.tables.get(PLANNED.name)
    if planned is None or PASSWORD not in planned.columns:
        return None
    given = planned.select("account", PASSWORD)
    names = batch.accounts.select("name")
    joined = names.join(given, left_on="name", right_on="account", how="left", maintain_order="left")
    return joined[PASSWORD].cast(pl.String)


def _estimated(password: str) -> int:
    """About how many guesses find it, as a power of ten, rounded down."""
    return int(zxcvbn(password[:_LONGEST_ESTIMATED]).guesses_log10)


def _classes(passwords: pl.Series) -> pl.Series:
    """Of how many classes its characters are: small letters, capitals, digits, and all others."""
    found = [passwords.str.contains(sort).cast(pl.Int64).alias(sort) for sort in _CLASSES]
    return pl.DataFrame(found).select(pl.sum_horizontal(pl.all(), ignore_nulls=False)).to_series()


def _shared(passwords: pl.Series, names: pl.Series) -> pl.Series:
    """Other rows with the same password; none where there is no password."""
    rows = pl.DataFrame({"password": passwords, "name": names}).with_row_index("row")
    lists = pl.List(pl.String)
    shared = rows.drop_nulls("password").filter(pl.len().over("password") > 1)
    first = shared.group_by("password").agg(pl.col("name").head(_NAMED + 1).alias("names"))
    named = shared.join(first, on="password").select(
        "row",
        others=pl.col("names").list.set_difference(pl.concat_list("name")).list.sort().list.head(_NAMED),
    )
    joined = rows.select("row").join(named, on="row", how="left", maintain_order="left")
    return joined.select(pl.col("others").fill_null(pl.lit([], dtype=lists))).to_series()


def _of_one_pattern(passwords: pl.Series) -> pl.Series:
    """In how many other rows the password is the same but for one number in it.

    Digits alone are a pattern only where the numbers lie close together: of random ones all have one form.
    """
    rows = pl.DataFrame({"password": passwords}).with_row_index("row")
    apart = (
        rows.drop_nulls()
        .unique("password", keep="first")
        .with_columns(pl.col("password").str.extract_all(_DIGITS.pattern).alias("number"))
        .with_columns(place=pl.int_ranges(0, pl.col("number").list.len()))
        .explode("number", "place")
        .drop_nulls("number")
    )
    if not apart.height:
        return pl.zeros(len(passwords), dtype=pl.Int64, eager=True)
    forms = [_form(password, place) for password, place in apart.select("password", "place").iter_rows()]
    apart = apart.with_columns(pl.Series("form", forms, dtype=pl.String))
    apart = apart.with_columns(value=pl.col("number").str.slice(0, 15).cast(pl.Int64, strict=False))
    together = apart.with_columns(
        others=pl.len().over("form").cast(pl.Int64) - 1,
        spread=(pl.col("value").max() - pl.col("value").min()).over("form"),
        letters=pl.col("form").str.replace_all("\0", "", literal=True).str.len_chars(),
    )
    # Chance makes equal forms too: what is left of the password has to be long, or the numbers close.
    meant = (pl.col("letters") >= 3) | (pl.col("spread") <= 10 * (pl.col("others") + 1))
    best = together.filter((pl.col("others") > 0) & meant).group_by("password").agg(pl.col("others").max())
    joined = rows.join(best, on="password", how="left", maintain_order="left")
    return joined["others"].fill_null(0)


def _form(password: str, place: int) -> str:
    """The password without the number at this place."""
    numbers = list(_DIGITS.finditer(password))
    at = numbers[place]
    return f"{password[: at.start()]}\0{password[at.end() :]}"


def _guessable(
    batch: Batch,
    passwords: pl.Series,
    strengths: dict[str, int],
    organisation: Collection[str],
    persons: pl.DataFrame,
    year: int,
    counting: pl.Series,
) -> pl.Series:
    """What each password can be guessed by."""
    own = [batch.accounts[name] for name in ("display", "mail", "person") if name in batch.accounts.columns]
    named = zip(batch.written, passwords, counting, *own, *persons.iter_columns(), strict=True)
    seen: dict[str, list[str]] = {}
    by: list[list[str]] = []
    for login, password, others, *names in named:
        if password is None:
            by.append([])
            continue
        if password not in seen:
            seen[password] = _by_anybody(password, strengths[password], organisation, year)
        found = list(seen[password])
        folded, plain = password.lower(), password.lower().translate(_LEET)
        # What one part is made of says little where most of the password is something else.
        if login and len(login) >= _LEAST_NAME and login.lower() in folded:
            found.append("login")
        if _holds(_parts([name for name in names if name]), folded, plain):
            found.append("name")
        if others:
            found.append("counting")
        by.append(found)
    return pl.Series(by, dtype=pl.List(pl.String))


def _by_anybody(password: str, strength: int, organisation: Collection[str], year: int) -> list[str]:
    """What a password can be guessed by, whoever it is for."""
    folded, plain = password.lower(), password.lower().translate(_LEET)
    found = ["common"] if strength < COMMON_BELOW else []
    if _holds(organisation, folded, plain):
        found.append("organisation")
    for word, likely in (("season", _SEASON), ("month", _MONTH)):
        if likely.search(folded) or likely.search(plain):
            found.append(word)
    if any(abs(int(number) - year) <= 3 for number in re.findall(r"(?<!\d)(?:19|20)\d\d(?!\d)", password)):
        found.append("year")
    if _has_run(folded):
        found.append("keyboard")
    return found


def _holds(words: Iterable[str], *texts: str) -> bool:
    """Whether one of these words stands in a text; a short one only where it stands between other signs."""
    return any(
        word in text and (len(word) >= _LEAST_WITHIN or _stands_alone(word, text))
        for word in words
        for text in texts
    )


def _stands_alone(word: str, text: str) -> bool:
    return word in _LETTERS.findall(text)


def _parts(names: Iterable[str]) -> set[str]:
    """The words of names that are long enough to be looked for, in small letters."""
    return {
        part
        for name in names
        for part in re.split(r"[^\w]+|_", name.lower())
        if len(part) >= _LEAST_NAME and not part.isdigit()
    }


def _has_run(password: str) -> bool:
    """Whether half of it or more is runs of keys side by side, or of digits one after the other."""
    covered = {
        place + offset
        for place in range(len(password) - _RUN + 1)
        if password[place : place + _RUN] in _RUNS
        for offset in range(_RUN)
    }
    return bool(covered) and len(covered) * 2 >= len(password)


_RUNS = frozenset(
    way[start : start + _RUN]
    for keys in _KEYBOARDS
    for way in (keys, keys[::-1])
    for start in range(len(keys) - _RUN + 1)
)
