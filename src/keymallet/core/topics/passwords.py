"""Passwords: how old they are against each account's own limit, who set them, and what comes due."""

from __future__ import annotations

import functools
import operator
from collections.abc import Mapping
from datetime import timedelta
from zoneinfo import ZoneInfo

import polars as pl

from keymallet.core.facts.declaration import ACCOUNT, SETTING
from keymallet.core.facts.evidence import INSTANT
from keymallet.core.facts.model import Kind
from keymallet.core.judging.judge import Judgement
from keymallet.core.language import typed
from keymallet.core.rulebook.model import Rulebook, rules_with_limit
from keymallet.core.topics.questions import Questions, QuestionsByName, has_limit
from keymallet.core.topics.report import (
    STATE,
    Section,
    State,
    Tone,
    Topic,
    TopicReport,
    first_that_holds,
    in_order,
)

EMPTY, HANDED_OUT, TOO_OLD, WEAK, UNANSWERED, UNPROVEN, NEVER, SOON, IN_ORDER = (
    "empty", "handed out", "too old", "weak scheme", "not answered", "unproven", "never expires", "due soon",
    "in order",
)  # fmt: skip
STATES = (
    State(EMPTY, "anybody can sign in", Tone.GRAVE),
    State(HANDED_OUT, "initial password not changed within a day", Tone.GRAVE),
    State(TOO_OLD, "older than the account's own limit", Tone.WORRY),
    State(WEAK, "weak hash", Tone.WORRY),
    State(UNANSWERED, "a required change was not made for more than a day", Tone.WORRY),
    State(UNPROVEN, "the sources do not report enough", Tone.OPEN),
    State(NEVER, "its system never requires a new one", Tone.FAIR),
    State(SOON, "reaches its limit within the next four weeks", Tone.FAIR),
    State(IN_ORDER, "younger than its limit, or no limit", Tone.FINE),
)
BY_BOOK, BY_SYSTEM, BY_NOTHING = "the rulebook", "the system", "no limit"
SOUND = "[argon2, yescrypt, bcrypt, scrypt, pbkdf2, sha512]"
BIN = timedelta(days=15)
"""The width of a bar in the spread of ages."""
WEEKS = 12
"""So many weeks ahead the wave of expiries is told."""
BATCH = 10
"""Passwords of one source that were set on one day stand out from so many on."""
_WEAKER = (
    ("min-length", "password-length", "shorter passwords"),
    ("classes", "password-classes", "fewer classes of characters"),
    ("history", "password-history", "fewer earlier ones refused"),
)


def asked(book: Rulebook) -> QuestionsByName:
    """What is asked of accounts, and of the systems' own settings."""
    questions = Questions(book).columns(ACCOUNT, "account", "unit", "kind", "source", "password-changed")
    questions.columns(ACCOUNT, "password-set-with", "password-shared-with", "password-expires")
    named = isinstance(book.limits.get("good-schemes"), typed.ConstList)
    sound = "limit.good-schemes" if named else SOUND
    questions.conditions(
        ACCOUNT,
        in_scope="enabled and has-password",
        empty="password-empty",
        handed_out="initial-password and age(password-changed) > 1d",
        unanswered="password-must-change and age(password-changed) > 1d",
        weak=f"password-scheme not in {sound}",
        never="password-never-expires",
        never_changed="password-changed <= created + 1d",
    )
    questions.values(ACCOUNT, system_limit="setting.max-age")
    if has_limit(book, "password-age", Kind.SPAN):
        questions.values(ACCOUNT, book_limit="limit.password-age")
        # The book asks for it of those alone whom its rules are for.
        bound = rules_with_limit(book, "password-age")
        for rule in book.rules:
            if rule.id in bound and rule.table == ACCOUNT.name:
                questions.asked[f"bound by {rule.id}"] = (ACCOUNT.name, rule.who)
    questions.columns(
        SETTING, "setting", "source", "max-age", "min-length", "classes", "history", prefix="set "
    )
    for fact, limit, _ in _WEAKER:
        if has_limit(book, limit, Kind.COUNT, for_all=True):
            questions.conditions(
                SETTING, **{f"weaker {fact}": f"not ({fact} is known and {fact} >= limit.{limit})"}
            )
            questions.values(SETTING, **{f"wanted {fact}": f"limit.{limit}"})
    if has_limit(book, "password-age", Kind.SPAN, for_all=True):
        weaker = "not (max-age is known and max-age <= limit.password-age)"
        questions.conditions(SETTING, **{"weaker max-age": weaker})
        questions.values(SETTING, **{"wanted max-age": "limit.password-age"})
    return questions.asked


def report(judgement: Judgement, answers: Mapping[str, pl.Series]) -> TopicReport:
    """Every account with a password, its age against its own limit, and when that is reached."""
    rows = _rows(judgement, answers)
    return TopicReport(
        topic="passwords",
        at=judgement.at,
        noun="password",
        states=STATES,
        rows=rows,
        kinds={
            "age": Kind.SPAN,
            "limit": Kind.SPAN,
            "due": Kind.INSTANT,
            "changed": Kind.INSTANT,
            "set with": Kind.COUNT,
            "shared with": Kind.WORDS,
        },
        measures=("never changed", "no expiry"),
        sections=tuple(_sections(judgement, answers, rows)),
        numbers={
            "the book has a limit": "book_limit" in answers,
            "may have none": int(answers["in_scope"].is_null().sum()),
            **_untold(answers),
        },
        draw=lambda: _drawn(judgement, rows),
    )


def _drawn(judgement: Judgement, rows: pl.DataFrame) -> dict[str, pl.DataFrame]:
    changed = rows.filter(pl.col("age").is_not_null())
    return {"ages": _spread(changed), "limits": _limits(changed), "wave": _wave(judgement, rows)}


def _rows(judgement: Judgement, answers: Mapping[str, pl.Series]) -> pl.DataFrame:
    nothing = pl.Series([None], dtype=pl.Duration("us")).new_from_index(0, len(answers["account"]))
    dated = pl.DataFrame(
        [
            *(answers[name] for name in ("account", "unit", "source")),
            answers["kind"].cast(pl.String),
            answers["password-changed"].alias("changed"),
            answers["password-set-with"].alias("set with"),
            answers["password-shared-with"].alias("shared with"),
            answers.get("book_limit", nothing).alias("book limit"),
            _bound(answers).alias("bound"),
            answers["system_limit"].alias("system"),
            answers["password-expires"].alias("expires"),
            answers["never"].fill_null(False).alias("no expiry"),
            answers["never_changed"].fill_null(False).alias("never changed"),
        ]
    ).with_columns((pl.lit(judgement.at, dtype=INSTANT) - pl.col("changed")).alias("age"))
    dated = dated.with_columns(pl.when("bound").then("book limit").alias("book"))
    dated = dated.with_columns(*stricter("book", "system")).with_columns(
        pl.min_horizontal(pl.col("changed") + pl.col("limit"), "expires").alias("due")
    )
    age = dated.select(
        # Older than one of two limits is too old, even where the other is not known.
        old=pl.when(pl.col("age") > pl.col("limit"))
        .then(True)
        # It may be bound by the book's limit, or has one and no known age: then it can not be told.
        .when(pl.col("bound").is_null() & (pl.col("age") > pl.col("book limit")).fill_null(True))
        .then(None)
        .when(pl.col("limit").is_null())
        .then(False)
        .otherwise(pl.col("age") > pl.col("limit")),
        soon=(pl.col("due") - judgement.at <= timedelta(weeks=4)).fill_null(False),
    )
    state = first_that_holds(
        [
            (EMPTY, answers["empty"].fill_null(False)),
            (HANDED_OUT, answers["handed_out"].fill_null(False)),
            (TOO_OLD, age["old"]),
            (WEAK, answers["weak"].fill_null(False)),
            (UNANSWERED, answers["unanswered"].fill_null(False)),
            (NEVER, answers["never"].fill_null(False)),
            (SOON, age["soon"]),
        ],
        IN_ORDER,
        UNPROVEN,
    )
    rows = dated.with_columns(state).drop("book", "book limit", "bound", "system", "expires")
    # In order is only what something is known of: that there is a password, and anything about it.
    known = [answers[name].is_not_null() for name in ("weak", "empty", "handed_out", "unanswered")]
    told = functools.reduce(operator.or_, [*known, answers["password-changed"].is_not_null()])
    sure = (told & answers["in_scope"].is_not_null()).alias("sure")
    doubtful = pl.col(STATE).is_in([IN_ORDER, SOON, NEVER]) & ~sure
    rows = rows.with_columns(pl.when(doubtful).then(pl.lit(UNPROVEN)).otherwise(STATE).alias(STATE))
    rows = rows.filter(answers["in_scope"].fill_null(True))
    return in_order(rows, STATES, pl.col("age") * -1, "account")


def _bound(answers: Mapping[str, pl.Series]) -> pl.Series:
    """Whether the book's limit is for each account: whether a rule that uses it is."""
    scopes = [answer for name, answer in answers.items() if name.startswith("bound by ")]
    if not scopes:
        return pl.Series([True], dtype=pl.Boolean).new_from_index(0, len(answers["account"]))
    return functools.reduce(operator.or_, scopes)


def stricter(book: str, system: str) -> list[pl.Expr]:
    """The stricter of two limits, and by whom it is set; where only one is known, that one."""
    both = pl.min_horizontal(book, system)
    by = (
        pl.when(both.is_null()).then(pl.lit(BY_NOTHING))
        .when(pl.col(book) == both).then(pl.lit(BY_BOOK))
        .otherwise(pl.lit(BY_SYSTEM))
    )  # fmt: skip
    return [both.alias("limit"), by.alias("limit by")]


def _spread(changed: pl.DataFrame) -> pl.DataFrame:
    """How many passwords of each kind of account are how old: `kind`, `bin` (in widths of BIN), `number`."""
    binned = changed.with_columns(_in_whole("age", BIN).alias("bin"))
    kind = pl.col("kind").fill_null("unknown")
    return binned.group_by(kind, "bin").agg(pl.len().alias("number")).sort("kind", "bin")


def _in_whole(span: str, unit: timedelta) -> pl.Expr:
    """How many whole units a length of time has."""
    return pl.col(span).dt.total_microseconds() // (unit // timedelta(microseconds=1))


def _limits(changed: pl.DataFrame) -> pl.DataFrame:
    """The limits there are, and how many accounts each is the limit of."""
    return changed.drop_nulls("limit").group_by("limit").agg(pl.len().alias("number")).sort("limit")


def _wave(judgement: Judgement, rows: pl.DataFrame) -> pl.DataFrame:
    """How many passwords reach their limit in each of the weeks ahead: `week` (from 0), `number`."""
    left = rows.filter(~pl.col("no expiry")).select(left=pl.col("due") - pl.lit(judgement.at, dtype=INSTANT))
    coming = left.select(week=_in_whole("left", timedelta(weeks=1)))
    counted = coming.filter((pl.col("week") >= 0) & (pl.col("week") < WEEKS))["week"].value_counts(
        name="number"
    )
    weeks = pl.DataFrame({"week": pl.int_range(WEEKS, eager=True)})
    return weeks.join(counted, on="week", how="left", maintain_order="left").fill_null(0)


def _untold(answers: Mapping[str, pl.Series]) -> dict[str, int]:
    """Of how many passwords the answer to each of these questions is not known."""
    scope = answers["in_scope"].fill_null(True)
    asked_of = ("weak", "empty", "handed_out", "unanswered")
    return {name: int((answers[name].is_null() & scope).sum()) for name in asked_of}


def _sections(judgement: Judgement, answers: Mapping[str, pl.Series], rows: pl.DataFrame) -> list[Section]:
    sections = []
    weaker = _weaker(answers)
    if weaker.height:
        kinds = dict.fromkeys(("it asks", "the rulebook"), Kind.COUNT)
        kinds |= dict.fromkeys(("it lets", "the rulebook lets"), Kind.SPAN)
        sections.append(Section("weaker", weaker, kinds))
    batches = _batches(rows, judgement.context.clock)
    if batches.height:
        kinds = {"passwords": Kind.COUNT, "kinds": Kind.WORDS, "which": Kind.WORDS}
        sections.append(Section("batches", batches, kinds))
    shared = rows.filter(pl.col("shared with").list.len() > 0)
    if shared.height:
        kinds = {"shared with": Kind.WORDS, "changed": Kind.INSTANT}
        columns = ("account", "shared with", "changed")
        sections.append(Section("copies", shared.select(columns), kinds))
    return sections


def _batches(rows: pl.DataFrame, clock: ZoneInfo) -> pl.DataFrame:
    """Days on which the passwords of so many accounts of one source were set that it stands out.

    A day stands out with `BATCH` passwords, and five times as many as the source's usual day has.
    """
    day = pl.col("changed").dt.convert_time_zone(clock.key).dt.date().alias("day")
    days = (
        rows.drop_nulls("changed")
        .group_by("source", day)
        .agg(pl.len().cast(pl.Int64).alias("passwords"), pl.col("account"), pl.col("kind").unique().sort())
    )
    usual = pl.col("passwords").median().over("source")
    out = days.filter((pl.col("passwords") >= BATCH) & (pl.col("passwords") >= 5 * usual))
    out = out.sort("passwords", "day", pl.col("source").cast(pl.String), descending=[True, False, False])
    return out.select(
        pl.col("source").cast(pl.String),
        pl.col("day").cast(pl.String),
        "passwords",
        pl.col("kind").alias("kinds"),
        pl.col("account").alias("which"),
    )


def _weaker(answers: Mapping[str, pl.Series]) -> pl.DataFrame:
    """Settings that ask for less than the book: which system, what, how much, and how much the book wants.

    Numbers stand under `it asks` and `the rulebook`, ages under `it lets` and `the rulebook lets`; each is
    null where the system asks for nothing, or the other two are meant.
    """
    no_number, no_span = pl.lit(None, dtype=pl.Int64), pl.lit(None, dtype=pl.Duration("us"))
    parts = []
    for fact, _, what in (*_WEAKER, ("max-age", "password-age", "older passwords")):
        if f"weaker {fact}" not in answers:
            continue
        columns = [answers[f"set {fact}"].alias("has"), answers[f"wanted {fact}"].alias("wants")]
        settings = pl.DataFrame([answers["set source"].cast(pl.String), answers["set setting"], *columns])
        is_span = fact == "max-age"
        parts.append(
            settings.filter(answers[f"weaker {fact}"].fill_null(False)).select(
                pl.col("set source").alias("source"),
                pl.col("set setting").alias("setting"),
                pl.lit(what).alias("allows"),
                (no_number if is_span else pl.col("has").cast(pl.Int64)).alias("it asks"),
                (no_number if is_span else pl.col("wants").cast(pl.Int64)).alias("the rulebook"),
                (pl.col("has") if is_span else no_span).alias("it lets"),
                (pl.col("wants") if is_span else no_span).alias("the rulebook lets"),
            )
        )
    return pl.concat(parts).sort("source", "setting", "allows") if parts else pl.DataFrame()


PASSWORDS_TOPIC = Topic(
    "passwords",
    "Passwords: how old they are, how they are stored, and which are due",
    ("kind", "unit", "source", "limit by"),
    asked,
    report,
)
