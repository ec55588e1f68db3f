"""Temporary access: what has an end, what lacks the one it needs, and what goes on after it.

An account, its password and each of its keys end on days of their own: they are rows of their own here.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from datetime import timedelta

import polars as pl

from keymallet.core.base.word_lists import words_that_hold
from keymallet.core.facts.declaration import ACCOUNT, KEY
from keymallet.core.facts.evidence import ACCOUNT_ROW, INSTANT, account_names
from keymallet.core.facts.model import Kind
from keymallet.core.judging.judge import Judgement
from keymallet.core.rulebook.model import Rulebook
from keymallet.core.topics.questions import Questions, QuestionsByName, has_limit
from keymallet.core.topics.report import STATE, Section, State, Tone, Topic, TopicReport, in_order

OUTLIVES, AMISS, UNPROVEN, SOON, IN_ORDER = (
    "outlives its end", "to correct", "unproven", "ends soon", "in order",
)  # fmt: skip
STATES = (
    State(OUTLIVES, "past its end date, or its account's, and still open", Tone.GRAVE),
    State(AMISS, "without a required end date, valid too long, unused, or usable too often", Tone.WORRY),
    State(UNPROVEN, "may be wrong, but the sources do not report enough", Tone.OPEN),
    State(SOON, "ends within the next four weeks", Tone.FAIR),
    State(IN_ORDER, "has the end date it needs, or needs none", Tone.FINE),
)
OF_ACCOUNT, OF_PASSWORD = "account", "password"
SEVERAL = "one of several"
HANDED_OUT = "[invitation, reset-link, entry-code]"
WEEKS_BACK, WEEKS = 4, 12
"""The calendar strip goes from so many weeks back to so many ahead."""
_TEMPORARY = (
    "kind = guest or ends is known or on-roster and person.contract in [contractor, temporary, external]"
    " or on-roster and person.status in [left, expected]"
)
_FOR_A_WHILE = "person.contract in [contractor, temporary, external]"
_FAULTS_OF_ACCOUNTS = {
    "past its end": "enabled and ends is known and until(ends) <= 0s",
    "of somebody who left": "enabled and on-roster and (person.status = left"
    " or person.leaves is known and until(person.leaves) <= 0s)",
    "before its start": "enabled and (starts is known and until(starts) > 0s"
    " or on-roster and person.status = expected)",
    "no end": "enabled and ends is unknown"
    f" and (kind = guest or on-roster and {_FOR_A_WHILE} and person.leaves is unknown)",
    "longer than the contract": "enabled and on-roster and ends is known and person.leaves is known"
    " and ends > person.leaves + 1d",
}
_GRAVE = ("past its end", "of somebody who left", "of a switched-off account", "of an ended account")


def _faults_of_keys(book: Rulebook) -> dict[str, str]:
    """What can be amiss with a key that works, each with the question that tells."""

    def limit(name: str, otherwise: str) -> str:
        return f"limit.{name}" if has_limit(book, name, Kind.SPAN) else otherwise

    keys = "kind in [api-key, app-password]"
    lasts = "expires is known and expires"
    return {
        "of a switched-off account": "not account.enabled",
        "of an ended account": "account.enabled and account.ends is known and until(account.ends) <= 0s",
        "good after use": f"kind in {HANDED_OUT} and last-used is known",
        "good after a newer one": f"kind in {HANDED_OUT} and superseded-by is known",
        "good more than once": f"kind in {HANDED_OUT} and uses-left is known and uses-left > 1",
        "for an administrator": f"kind in {HANDED_OUT} and account.privileged",
        "good for too long": f"kind in {HANDED_OUT} and {lasts} - issued > {limit('handed-out', '3d')}"
        f" or kind = session and {lasts} - issued > {limit('session', '12h')}"
        f" or kind = ssh-certificate and {lasts} - starts > {limit('certificate-life', '90d')}",
        "no end": "kind in [session, invitation, reset-link, entry-code, ssh-certificate]"
        " and expires is unknown or kind = ssh-key and account.kind = guest and expires is unknown",
        "too old": f"{keys} and age(issued) > {limit('key-age', '180d')}",
        "never used": f"{keys} and last-used is unknown and age(issued) > {limit('key-unused', '30d')}",
        "no longer used": f"{keys} and last-used is known and age(last-used) > {limit('key-idle', '90d')}",
    }


_WORKS = "state = active and (expires is unknown or until(expires) > 0s)"


def asked(book: Rulebook) -> QuestionsByName:
    """What is asked of temporary accounts, and of every key that works."""
    questions = Questions(book).columns(
        ACCOUNT, "account", "unit", "kind", "source", "ends", "password-expires"
    )
    questions.conditions(ACCOUNT, temporary=_TEMPORARY, enabled="enabled", has_password="has-password")
    questions.conditions(ACCOUNT, **{f"account {word}": text for word, text in _FAULTS_OF_ACCOUNTS.items()})
    questions.values(
        ACCOUNT,
        api_keys=f"count key ({_WORKS} and kind = api-key)",
        latest_key="latest key.expires (state = active)",
        keys=f"count key ({_WORKS} and kind != session)",
        sessions=f"count key ({_WORKS} and kind = session)",
        openings="count elevation (outcome = opened and until(ends) > 0s and closed is unknown)",
    )
    questions.columns(KEY, "key", "kind", "expires", prefix="key ")
    questions.conditions(
        KEY,
        works=f"{_WORKS} and (starts is unknown or until(starts) <= 0s)",
    )
    faults = {f"key {word}": text for word, text in _faults_of_keys(book).items()}
    return questions.conditions(KEY, **faults).asked


def report(judgement: Judgement, answers: Mapping[str, pl.Series]) -> TopicReport:
    """Temporary accounts, their passwords, and every key that works: each with its own end."""
    parts = [_accounts(answers), _passwords(answers), _keys(judgement, answers)]
    rows = _with_state(pl.concat(parts), judgement)
    enabled = answers["enabled"].fill_null(True)
    return TopicReport(
        topic="temporary",
        at=judgement.at,
        noun="thing with an end",
        plural="things",
        states=STATES,
        rows=rows,
        kinds={"ends": Kind.INSTANT, "problems": Kind.WORDS},
        measures=("endless",),
        sections=tuple(_sections(judgement, answers, rows)),
        numbers={"may be temporary": int((answers["temporary"].is_null() & enabled).sum())},
        draw=lambda: {"ends": _strip(rows, judgement)},
    )


_BARE = ("what", "account", "which", "unit", "kind", "source", "ends", "problems", "may be")


def _accounts(answers: Mapping[str, pl.Series]) -> pl.DataFrame:
    """A row for each temporary account that is enabled."""
    rows = _of_accounts(answers, OF_ACCOUNT, answers["ends"])
    rows = rows.with_columns(_words("account", _FAULTS_OF_ACCOUNTS, answers))
    # Whether it is temporary may not be known of anybody, where there is no roster: that is told as a number.
    return rows.filter(answers["temporary"].fill_null(False) & answers["enabled"].fill_null(True)).select(
        _BARE
    )


def _passwords(answers: Mapping[str, pl.Series]) -> pl.DataFrame:
    """A row for each password that its own system lets run out, of a temporary account."""
    ends = answers["password-expires"]
    rows = _of_accounts(answers, OF_PASSWORD, ends)
    none = pl.lit([], dtype=pl.List(pl.String))
    rows = rows.with_columns(none.alias("problems"), pl.lit(False).alias("may be"))
    kept = answers["temporary"] & answers["enabled"] & answers["has_password"] & ends.is_not_null()
    return rows.filter(kept.fill_null(False)).select(_BARE)


def _of_accounts(answers: Mapping[str, pl.Series], what: str, ends: pl.Series) -> pl.DataFrame:
    columns = [answers[name].cast(pl.String) for name in ("account", "unit", "kind", "source")]
    frame = pl.DataFrame([*columns, ends.alias("ends")])
    return frame.with_columns(pl.lit(what).alias("what"), pl.lit(None, dtype=pl.String).alias("which"))


def _keys(judgement: Judgement, answers: Mapping[str, pl.Series]) -> pl.DataFrame:
    """A row for each key that works, whatever account it is of."""
    frames = judgement.context.frames
    keys = frames[KEY.name]
    rows = keys[ACCOUNT_ROW]
    frame = pl.DataFrame(
        [
            account_names(frames[ACCOUNT.name], keys).alias("account"),
            *(answers[name].gather(rows).cast(pl.String).alias(name) for name in ("unit", "kind", "source")),
            answers["key kind"].cast(pl.String).alias("what"),
            answers["key key"].alias("which"),
            answers["key expires"].alias("ends"),
        ]
    )
    several = (answers["key kind"] == "api-key") & (answers["api_keys"].gather(rows) > 1)
    faults = {**answers, f"key {SEVERAL}": several}
    faulted = frame.with_columns(_words("key", [*_faults_of_keys(judgement.rulebook), SEVERAL], faults))
    faulted = faulted.with_columns(pl.col("may be") | answers["works"].is_null())
    return faulted.filter(answers["works"].fill_null(True)).select(_BARE)


def _words(prefix: str, words: Iterable[str], answers: Mapping[str, pl.Series]) -> list[pl.Series]:
    """For each row the faults that are surely its own (`amiss`), and whether there `may be` others."""
    truths = [(word, answers[f"{prefix} {word}"]) for word in words]
    rows = len(truths[0][1])
    unsure = pl.repeat(False, rows, dtype=pl.Boolean, eager=True)
    for _, truth in truths:
        unsure |= truth.is_null()
    return [words_that_hold(truths, rows).alias("problems"), unsure.alias("may be")]


def _with_state(rows: pl.DataFrame, judgement: Judgement) -> pl.DataFrame:
    now = pl.lit(judgement.at, dtype=INSTANT)
    grave = pl.any_horizontal(pl.col("problems").list.contains(word) for word in _GRAVE)
    left = pl.col("ends") - now
    soon = (left > timedelta(0)) & (left <= timedelta(weeks=4))
    state = (
        pl.when(grave).then(pl.lit(OUTLIVES))
        .when(pl.col("problems").list.len() > 0).then(pl.lit(AMISS))
        .when("may be").then(pl.lit(UNPROVEN))
        .when(soon.fill_null(False)).then(pl.lit(SOON))
        .otherwise(pl.lit(IN_ORDER))
        .alias(STATE)
    )  # fmt: skip
    stated = rows.with_columns(state, pl.col("ends").is_null().alias("endless")).drop("may be")
    return in_order(stated, STATES, "ends", "account", "which")


def _strip(rows: pl.DataFrame, judgement: Judgement) -> pl.DataFrame:
    """What ends on which day around the instant judged at: `lane`, `day` (0 is today), `number`."""
    clock = judgement.context.clock
    day = pl.col("ends").dt.convert_time_zone(clock.key).dt.date()
    today = judgement.at.astimezone(clock).date()
    lane = pl.when(pl.col("what").is_in([OF_ACCOUNT, OF_PASSWORD])).then("what").otherwise(pl.lit("key"))
    dated = rows.drop_nulls("ends").select(lane.alias("lane"), day=(day - today).dt.total_days())
    near = dated.filter((pl.col("day") >= -7 * WEEKS_BACK) & (pl.col("day") <= 7 * WEEKS))
    return near.group_by("lane", "day").agg(pl.len().alias("number")).sort("lane", "day")


def _sections(judgement: Judgement, answers: Mapping[str, pl.Series], rows: pl.DataFrame) -> list[Section]:
    sections = []
    wrong = rows.explode("problems").drop_nulls("problems")
    if wrong.height:
        counted = wrong.group_by("problems").agg(
            pl.len().cast(pl.Int64).alias("number"), pl.col("what").unique().sort(), pl.col("account")
        )
        counted = counted.sort("number", "problems", descending=[True, False])
        shown = counted.select(
            pl.col("problems").alias("what to correct"),
            "number",
            pl.col("what").alias("with"),
            pl.col("account").list.unique(maintain_order=True).alias("on"),
        )
        kinds = {"number": Kind.COUNT, "with": Kind.WORDS, "on": Kind.WORDS}
        sections.append(Section("problems", shown, kinds))
    still = _still_open(judgement, answers)
    if still.height:
        kinds = dict.fromkeys(("account ends", "password ends", "last key ends"), Kind.INSTANT)
        kinds |= dict.fromkeys(("keys", "sessions", "openings"), Kind.COUNT)
        sections.append(Section("still-open", still, {**kinds, "enabled": Kind.FLAG}))
    return sections


def _still_open(judgement: Judgement, answers: Mapping[str, pl.Series]) -> pl.DataFrame:
    """Accounts past their end: when each, its password and its last key end, and what is still open."""
    past = answers["ends"] <= judgement.at
    frame = pl.DataFrame(
        [
            answers["account"],
            answers["ends"].alias("account ends"),
            answers["password-expires"].alias("password ends"),
            answers["latest_key"].alias("last key ends"),
            answers["enabled"],
            *(answers[name].fill_null(0) for name in ("keys", "sessions", "openings")),
        ]
    ).filter(past.fill_null(False))
    open_things = pl.sum_horizontal("keys", "sessions", "openings") > 0
    still = frame.filter(pl.col("enabled").fill_null(False) | open_things)
    return still.sort("account ends", "account")


TEMPORARY_TOPIC = Topic(
    "temporary",
    "Temporary access: what has an end date, what lacks one, and what still works after it",
    ("what", "unit", "kind", "source"),
    asked,
    report,
)
