"""What becomes of findings from one run to the next: which are new, open, back, mended, not seen, and why."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping
from dataclasses import dataclass, field
from datetime import datetime
from fnmatch import fnmatchcase

import polars as pl

from keymallet.core.evaluating.context import columns_used
from keymallet.core.facts.declaration import ACCOUNT, EXEMPTION, TABLES, WAY_IN
from keymallet.core.facts.evidence import INSTANT
from keymallet.core.history.columns import (
    ACCOUNT_KEY,
    FINDING,
    KEYS,
    LIFE,
    ROW,
    ROW_KEY,
    RULE_KEY,
    TRANSITION,
)
from keymallet.core.history.identity import Identities
from keymallet.core.history.observed import Observed
from keymallet.core.history.states import BROKEN, LASTING, Cause, State
from keymallet.core.history.steps import NO_ROW, NO_RULE, Steps, causes, verdicts_of
from keymallet.core.judging.judge import Judgement
from keymallet.core.judging.verdicts import Verdict
from keymallet.core.rulebook.model import Tally

REGISTER = "register"
"""What stands as the source of entries of the register."""


@dataclass(frozen=True)
class Wholeness:
    """What can be concluded from a row that is not there any more.

    `not_read` are sources that were not read, or not to their end; `refused` are tables by source of which
    records were refused: a row that is missing may be one of them. `refused_anew` are those of which a record
    was refused that the run before did not refuse as it stands: what that one read may be among these alone.
    `tables` are those that each source gave.
    `retired` are patterns of sources that exist no longer, `cut_short` those of `not_read` that gave a part.
    """

    not_read: frozenset[str]
    refused: Mapping[str, frozenset[str]] = field(default_factory=dict)
    tables: Mapping[str, frozenset[str]] = field(default_factory=dict)
    retired: tuple[str, ...] = ()
    cut_short: frozenset[str] = frozenset()
    refused_anew: Mapping[str, frozenset[str]] | None = None

    def is_retired(self, source: str | None) -> bool:
        """Whether the estate says that a source exists no longer, with everything in it."""
        return (
            source is not None
            and source not in self.tables
            and any(fnmatchcase(source, pattern) for pattern in self.retired)
        )

    def is_whole(self, known: Collection[str]) -> bool:
        """Whether no source stopped short, and none of those that are `known` is missing.

        Of a source that was not read at all the accounts are known to be unknown.
        """
        missing = {name for name in known if name not in self.tables and not self.is_retired(name)}
        return not self.cut_short and missing <= {REGISTER}

    def has_all(self, source: str) -> bool:
        """Whether an account of a source that the run before read, and that is missing, is gone."""
        return self.tells_of(source, ACCOUNT.name, seen_before=True)

    def tells_of(self, source: str | None, table: str, *, seen_before: bool = False) -> bool:
        """Whether a row that is missing from a table of a source is gone for certain.

        `seen_before` says that the run before read it.
        """
        if source is None or table == EXEMPTION.name:
            return True
        given = self.tables.get(source, frozenset())
        refused = self.refused if self.refused_anew is None or not seen_before else self.refused_anew
        return (
            source not in self.not_read and table in given and table not in refused.get(source, frozenset())
        )


@dataclass(frozen=True)
class Lives:
    """`frame` has FINDING and LIFE for each finding of the later run, in its order; null where it has none.

    `carried` are findings of the run before that were not seen in this one, as that run had them, with LIFE.
    `transitions` are all changes of state.
    """

    frame: pl.DataFrame
    carried: pl.DataFrame
    transitions: pl.DataFrame


def first_lives(observed: Observed, at: datetime) -> Lives:
    """The lives of the findings of the first run: all are new."""
    frame = observed.frame.select(
        FINDING,
        pl.when(pl.col("verdict") == Verdict.BREACH.word)
        .then(pl.lit(str(State.NEW)))
        .when(pl.col("verdict") == Verdict.EXEMPT.word)
        .then(pl.lit(str(State.EXEMPT)))
        .alias("state"),
    )
    alive = pl.col("state").is_not_null()
    now = pl.lit(at, dtype=INSTANT)
    frame = frame.with_columns(
        pl.when(alive).then(now).alias("first-seen"),
        pl.when(alive).then(now).alias("open-since"),
        pl.when(alive).then(pl.lit(0, dtype=pl.Int64)).alias("times-back"),
        pl.when(alive).then(pl.lit(str(Cause.FIRST_RUN))).alias("cause"),
    )
    return Lives(frame, pl.DataFrame(), pl.DataFrame(schema=TRANSITION))


_KIND_WAS = {
    **dict.fromkeys(map(str, BROKEN), "breach"),
    str(State.EXEMPT): "exempt",
    str(State.NOT_SEEN): "unproven",
}


def follow(
    before: pl.DataFrame,
    observed: Observed,
    steps: Callable[[Collection[str]], Steps | None],
    wholeness: Wholeness,
    ended: Callable[[pl.Series], pl.DataFrame],
    at: datetime,
) -> Lives:
    """The lives of the findings of a run, by those of the run before it and the steps between the two.

    `steps` judges step by step by the rules of the keys it is given; it gives None where the evidence of the
    run before is not there any more, so that causes cannot be told.

    `before` has what that run knew of its findings: the columns of `Observed.frame`, and LIFE. `ended` gives,
    of the ids it is asked about, those that ended in an earlier run (see ENDED).
    """
    lasting = before.filter(pl.col("state").is_in(list(map(str, LASTING))))
    was = lasting.select(FINDING, *(pl.col(name).alias(f"{name}-before") for name in LIFE))
    frame = observed.frame.join(was, on=FINDING, how="left", maintain_order="left")
    frame = frame.with_columns(
        pl.col("state-before").replace_strict(_KIND_WAS, default="nothing").alias("stood"),
        pl.col("verdict").is_in([Verdict.BREACH.word, Verdict.EXEMPT.word]).alias("broken"),
    )
    turned = frame.filter(
        pl.col("broken")
        & (
            pl.col("stood")
            != pl.when(pl.col("verdict") == Verdict.EXEMPT.word)
            .then(pl.lit("exempt"))
            .otherwise(pl.lit("breach"))
        )
    )
    gone = lasting.join(frame.filter("broken").select(FINDING), on=FINDING, how="anti", maintain_order="left")
    gone = gone.with_columns(pl.col("state").replace_strict(_KIND_WAS).alias("stood"))

    known_as = {id(observed.judgement): observed.identities}

    def identities(judgement: Judgement) -> Identities:
        # All but the last are of the old evidence.
        if id(judgement) not in known_as:
            known_as[id(judgement)] = observed.identities_before(judgement)
        return known_as[id(judgement)]

    keys = [*KEYS, "stood"]
    asked = pl.concat([turned.select(FINDING, *keys), gone.select(FINDING, *keys)])
    between = steps(set(asked[RULE_KEY])) if asked.height else None
    told = _causes(asked, between, identities, observed)
    back = ended(turned.filter(pl.col("stood") == "nothing")[FINDING])
    begun = _begun(turned, told, back, at)
    known = set(before["source"].drop_nulls().unique())
    over = _over(gone, told, wholeness, identities(observed.judgement), known)
    return _assembled(observed, frame, begun, over, at)


def _causes(
    asked: pl.DataFrame,
    steps: Steps | None,
    identities: Callable[[Judgement], Identities],
    observed: Observed,
) -> pl.DataFrame:
    """FINDING, `cause` and `code`, the verdict's code now."""
    if steps is not None:
        return causes(steps, asked, identities).select(FINDING, "cause", "code")
    codes = verdicts_of(identities(observed.judgement), asked)
    return asked.select(
        FINDING,
        pl.lit(str(Cause.NOT_KNOWN)).alias("cause"),
        codes.alias("code"),
    )


def _begun(turned: pl.DataFrame, told: pl.DataFrame, back: pl.DataFrame, at: datetime) -> pl.DataFrame:
    """The findings of this run whose state changed, with LIFE and `was`: the state before."""
    back = back.rename({"first-seen": "first-ever", "times-back": "back-before"})
    frame = turned.join(told, on=FINDING, how="left", maintain_order="left")
    frame = frame.join(back, on=FINDING, how="left", maintain_order="left")
    exempt = pl.col("verdict") == Verdict.EXEMPT.word
    again = pl.col("back-before").is_not_null()
    state = (
        pl.when(exempt)
        .then(pl.lit(str(State.EXEMPT)))
        .when(pl.col("stood") == "exempt")
        .then(pl.lit(str(State.EXEMPTION_ENDED)))
        .when(pl.col("stood") == "unproven")
        .then(pl.lit(str(State.OPEN)))
        .when(again)
        .then(pl.lit(str(State.BACK)))
        .otherwise(pl.lit(str(State.NEW)))
    )
    now = pl.lit(at, dtype=INSTANT)
    goes_on = pl.col("stood").is_in(["breach", "unproven"])
    return frame.select(
        pl.all().exclude("cause", "code", "first-ever", "back-before"),
        state.alias("state"),
        pl.coalesce("first-seen-before", "first-ever", now).alias("first-seen"),
        pl.when(goes_on).then("open-since-before").otherwise(now).alias("open-since"),
        pl.coalesce("times-back-before", pl.col("back-before") + 1, pl.lit(0, dtype=pl.Int64)).alias(
            "times-back"
        ),
        "cause",
    )


def _over(
    gone: pl.DataFrame,
    told: pl.DataFrame,
    wholeness: Wholeness,
    identities: Identities,
    known: Collection[str],
) -> pl.DataFrame:
    """The findings of the run before that are in breach no longer: `was`, and the state and cause of each.

    `known` are the sources that run had findings of.
    """
    if not gone.height:
        return gone.with_columns(pl.lit("").alias("was"))
    frame = gone.drop("cause").join(told, on=FINDING, how="left", maintain_order="left")
    accounts = identities.located(ACCOUNT.name, frame.select(ACCOUNT_KEY, pl.lit("").alias(ROW_KEY)))
    frame = frame.with_columns(accounts[ROW].is_not_null().alias("account-there"))
    tables = {
        identities.rule_keys[demand.id]: demand.table for demand in identities.judgement.rulebook.demands
    }
    frame = frame.with_columns(pl.col(RULE_KEY).replace_strict(tables, default="").alias("table"))
    missing = pl.col("code") == NO_ROW
    unsure = _unsure(frame, wholeness)
    if not wholeness.is_whole(known):
        unsure |= pl.col(RULE_KEY).is_in(_rest_on_several(identities))
    caused = pl.col("cause")
    by_facts = (caused == str(Cause.FACTS)) | (caused == str(Cause.NOT_KNOWN))
    hidden = (pl.col("stood") == "unproven") & (pl.col("code") != NO_RULE)
    not_seen = (pl.col("code") == int(Verdict.UNPROVEN)) | ((by_facts | missing | hidden) & unsure)
    of_account = pl.col("source").is_not_null() & pl.col("name").is_not_null()
    ended = [name for name in frame["source"].drop_nulls().unique() if wholeness.is_retired(name)]
    retired = pl.col("source").is_in(ended).fill_null(False)
    state = (
        pl.when(not_seen)
        .then(pl.lit(str(State.NOT_SEEN)))
        .when((caused == str(Cause.RULEBOOK)) | (pl.col("code") == NO_RULE))
        .then(pl.lit(str(State.RULE_CHANGED)))
        .when(missing & (retired | of_account & ~pl.col("account-there")))
        .then(pl.lit(str(State.ACCOUNT_GONE)))
        .when(caused == str(Cause.TIME))
        .then(pl.lit(str(State.ENDED_BY_TIME)))
        .when(caused == str(Cause.NOT_KNOWN))
        .then(pl.lit(str(State.ENDED)))
        .otherwise(pl.lit(str(State.MENDED)))
    )
    cause = (
        pl.when(not_seen & unsure)
        .then(pl.lit(str(Cause.NOT_READ)))
        .when(not_seen)
        .then(pl.lit(str(Cause.UNKNOWN)))
        .otherwise(caused)
    )
    return frame.with_columns(pl.col("state").alias("was")).with_columns(
        state.alias("state"), cause.alias("cause")
    )


def _rest_on_several(identities: Identities) -> list[str]:
    """The keys of the rules that rest on what lies side by side: numbers, shared values, twins."""
    found = []
    for demand in identities.judgement.rulebook.demands:
        used = columns_used((demand.table, expression) for expression in demand.expressions)
        columns = [
            column
            for table, names in used.items()
            if TABLES[table] is not WAY_IN
            for column in TABLES[table].columns
            if column.name in names
        ]
        if isinstance(demand, Tally) or any(column.across for column in columns):
            found.append(identities.rule_keys[demand.id])
    return found


def _unsure(frame: pl.DataFrame, wholeness: Wholeness) -> pl.Expr:
    """Whether a finding's source was not read in a way that would tell that it is over."""
    # What was not seen before may have been refused then, too: only what was there can be told by that.
    frame = frame.with_columns(
        (pl.col("account-there") | pl.col("name").is_null()).alias("only-row"),
        (pl.col("stood") != "unproven").alias("seen-before"),
    )
    columns = ["source", "table", "only-row", "seen-before", "code"]
    pairs = frame.select(columns).unique()
    unsure = []
    for source, table, only_row, seen, code in pairs.iter_rows():
        if source is None or table == EXEMPTION.name or wholeness.is_retired(source):
            unsure.append(False)
        elif source in wholeness.not_read or source not in wholeness.tables:
            unsure.append(True)
        elif code == NO_ROW:
            missing = table if only_row else ACCOUNT.name
            unsure.append(not wholeness.tells_of(source, missing, seen_before=seen))
        else:
            unsure.append(False)
    marked = pairs.with_columns(pl.Series("unsure", unsure, dtype=pl.Boolean))
    found = frame.join(marked, on=columns, how="left", maintain_order="left", nulls_equal=True)
    return pl.lit(found["unsure"].fill_null(False))


def _assembled(
    observed: Observed, frame: pl.DataFrame, begun: pl.DataFrame, over: pl.DataFrame, at: datetime
) -> Lives:
    not_seen = over.filter(pl.col("state") == str(State.NOT_SEEN))
    changes = pl.concat([begun.select(FINDING, *LIFE), not_seen.select(FINDING, *LIFE)])
    lives = frame.join(changes, on=FINDING, how="left", maintain_order="left")
    # What goes on keeps its life: it is open now, whatever it was called when it came.
    goes_on = pl.col("broken") & pl.col("state").is_null()
    kept = {
        name: pl.coalesce(name, pl.when(goes_on).then(f"{name}-before")) for name in LIFE if name != "state"
    }
    still = (
        pl.when(pl.col("stood") == "exempt")
        .then(pl.lit(str(State.EXEMPT)))
        .otherwise(pl.lit(str(State.OPEN)))
    )
    lives = lives.select(
        FINDING, pl.coalesce("state", pl.when(goes_on).then(still)).alias("state"), *kept.values()
    )
    carried = not_seen.join(observed.frame.select(FINDING), on=FINDING, how="anti", maintain_order="left")
    turned = over.filter(pl.col("state") != pl.col("was"))
    began = begun.with_columns(pl.col("state-before").fill_null("").alias("was"))
    transitions = pl.concat([part.select(list(TRANSITION)) for part in (began, turned)])
    return Lives(
        lives, carried.drop("stood", "code", "account-there", "table", "was", strict=False), transitions
    )
