"""Findings: each breach and each unproven verdict with its account and its reason, as one frame."""

from __future__ import annotations

from collections.abc import Callable

import polars as pl

from keymallet.core import facts
from keymallet.core.evidence import account_names, source_column
from keymallet.core.judge import Judgement
from keymallet.core.reasons import because, missing
from keymallet.core.rulebook import Rule
from keymallet.core.verdicts import Verdict

COLUMNS = (
    "rule",
    "title",
    "severity",
    "verdict",
    "account",
    "subject",
    "display",
    "unit",
    "because",
    "missing",
    "cite",
    "advice",
)
"""What a finding says. `subject` is the key, grant, … that the verdict is on, where it is not the account.
Where it is on something in force in a source (a setting), or on a person, `account` names the source.
"""


SHORTCOMINGS = (Verdict.BREACH, Verdict.UNPROVEN)
EVERY_VERDICT = (Verdict.BREACH, Verdict.UNPROVEN, Verdict.MET)


def findings(
    judgement: Judgement,
    verdicts: tuple[Verdict, ...] = SHORTCOMINGS,
    accounts: pl.Series | None = None,
) -> pl.DataFrame:
    """Each verdict of these kinds, in their order; within a kind the gravest rule first.

    With `accounts`, rows of the account table, only the verdicts on these.
    """
    gravest_first = sorted(judgement.rulebook.rules, key=lambda rule: -rule.severity)
    parts = []
    for verdict in verdicts:
        for rule in gravest_first:
            rows = judgement.rows(rule, verdict)
            if accounts is not None:
                rows = rows.filter(judgement.accounts(rule, rows).is_in(accounts.implode()))
            if len(rows):
                parts.append(_described(judgement, rule, verdict, rows))
    return pl.concat(parts) if parts else _nothing()


def on_people(judgement: Judgement) -> pl.DataFrame:
    """The breaches that are a person's, whatever account they are about."""
    return _of_no_account(judgement, lambda table: table is facts.PERSON)


def on_systems(judgement: Judgement) -> pl.DataFrame:
    """The breaches that are nobody's: of what a source has in force, such as its settings."""
    return _of_no_account(judgement, lambda table: not table.owner and table is not facts.PERSON)


def _of_no_account(judgement: Judgement, of: Callable[[facts.Table], bool]) -> pl.DataFrame:
    parts = []
    rules = [rule for rule in judgement.rulebook.rules if of(facts.TABLES[rule.table])]
    for rule in sorted(rules, key=lambda rule: -rule.severity):
        rows = judgement.rows(rule, Verdict.BREACH)
        if len(rows):
            parts.append(_described(judgement, rule, Verdict.BREACH, rows))
    return pl.concat(parts) if parts else _nothing()


def about_account(around: Judgement, alone: Judgement) -> pl.DataFrame:
    """Every verdict on one account and on its person, out of a judgement that has their others as well."""
    account = alone.evidence.tables["account"]["account"][0]
    of_people = [rule.id for rule in around.rulebook.rules if rule.table == facts.PERSON.name]
    about = (pl.col("account") == account) | pl.col("rule").is_in(of_people)
    return findings(around, EVERY_VERDICT).filter(about)


def worst_accounts(judgement: Judgement, most: int) -> tuple[pl.Series, int]:
    """The rows of the accounts with the gravest breaches, the worst first; and how many have any.

    One more breach of a severity outweighs any number of less severe ones.
    """
    scores = pl.zeros(judgement.evidence.tables["account"].height, dtype=pl.Int64, eager=True)
    for rule in judgement.rulebook.rules:
        rows = judgement.accounts(rule, judgement.rows(rule, Verdict.BREACH))
        if rule.table != "account":
            rows = rows.drop_nulls().unique()
        # Each account stands once among the rows: adding to a few places beats grouping all there are.
        scores.scatter(rows, scores.gather(rows) + (1 << _BITS_A_SEVERITY * (rule.severity - 1)))
    ranked = pl.DataFrame({"row": (scores > 0).arg_true().cast(pl.UInt32)})
    ranked = ranked.with_columns(score=scores.gather(ranked["row"]))
    worst = ranked.top_k(most, by=["score", -pl.col("row").cast(pl.Int64)])
    return worst.sort(["score", "row"], descending=[True, False])["row"], ranked.height


_MOST_IN_A_NAME = 2
_BITS_A_SEVERITY = 15  # four severities in 63 bits: room for 32,767 rules of each


def _described(judgement: Judgement, rule: Rule, verdict: Verdict, rows: pl.Series) -> pl.DataFrame:
    workspace = judgement.workspace
    frame = workspace.rows_of(rule.table, rows)
    people = rule.table == facts.PERSON.name
    described = (
        pl.DataFrame({"display": frame["name"], "unit": frame["unit"]})
        if people
        else workspace.rows_of("account", judgement.accounts(rule, rows), ("display", "unit"))
    )
    names = _names(judgement, rule, frame, rows)
    nothing = pl.lit(None, dtype=pl.String)
    reasons: list[pl.Series | pl.Expr] = [
        nothing.alias("because"),
        pl.lit([], pl.List(pl.String)).alias("missing"),
    ]
    if verdict is Verdict.BREACH:
        reasons[0] = because(workspace, rule.table, rule.must, rows)
    if verdict is Verdict.UNPROVEN:
        reasons[1] = missing(workspace, rule.table, [rule.who, rule.must], rows)
    return (
        frame.select(names.alias("account"), _subject(rule).alias("subject"))
        .with_columns(described["display"], described["unit"], *reasons)
        .with_columns(
            rule=pl.lit(rule.id),
            title=pl.lit(rule.title),
            severity=pl.lit(rule.severity.word),
            verdict=pl.lit(verdict.word),
            cite=pl.lit(list(rule.cite), dtype=pl.List(pl.String)),
            advice=pl.lit(rule.advice),
        )
        .select(COLUMNS)
    )


def _names(judgement: Judgement, rule: Rule, frame: pl.DataFrame, rows: pl.Series) -> pl.Series:
    """The accounts that verdicts are on; the source where they are on something in force in a source."""
    accounts = judgement.workspace.frames["account"]
    if rule.table == facts.ACCOUNT.name:
        return accounts["account"].gather(rows)
    if not facts.TABLES[rule.table].of_account:
        return frame[source_column(facts.TABLES[rule.table])].cast(pl.String)
    return account_names(accounts, frame)


def _subject(rule: Rule) -> pl.Expr:
    table = facts.TABLES[rule.table]
    if table is facts.ACCOUNT:
        return pl.lit(None, dtype=pl.String)
    return pl.concat_str(
        [pl.col(name).cast(pl.String) for name in table.label[:_MOST_IN_A_NAME]],
        separator=" ",
        ignore_nulls=True,
    )


def _nothing() -> pl.DataFrame:
    lists = {"missing", "cite"}
    return pl.DataFrame(schema={name: pl.List(pl.String) if name in lists else pl.String for name in COLUMNS})
