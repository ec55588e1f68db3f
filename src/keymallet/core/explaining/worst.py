"""Which accounts are worst, and how many there are: counted, without a word on any of them."""

from __future__ import annotations

import polars as pl

from keymallet.core.explaining.findings import alike
from keymallet.core.judging.judge import Judgement
from keymallet.core.judging.verdicts import Verdict
from keymallet.core.rulebook.model import TOPICS, Rule


def worst_accounts(judgement: Judgement, most: int, topic: str | None = None) -> tuple[pl.Series, int]:
    """The rows of the accounts with the gravest breaches, the worst first; and how many have any.

    With `topic`, only breaches of its rules count.
    """
    ranked, breached = ranked_worst(judgement, most, topic)
    return ranked["row"], breached


def ranked_worst(judgement: Judgement, most: int, topic: str | None = None) -> tuple[pl.DataFrame, int]:
    """The same with the `score` of each `row`: the greater, the worse.

    One more breach of a severity outweighs any number of less severe ones.
    """
    scores = pl.zeros(judgement.evidence.tables["account"].height, dtype=pl.Int64, eager=True)
    for rule in judgement.rulebook.rules:
        if topic not in (None, rule.topic):
            continue
        rows = judgement.rows(rule, Verdict.BREACH)
        if not len(rows):
            continue
        rows = judgement.accounts(rule, rows)
        if rule.table != "account":
            rows = rows.drop_nulls().unique()
        # Each account stands once among the rows: adding to a few places beats grouping all there are.
        scores.scatter(rows, scores.gather(rows) + (1 << _BITS_A_SEVERITY * (rule.severity - 1)))
    ranked = pl.DataFrame({"row": (scores > 0).arg_true().cast(pl.UInt32)})
    ranked = ranked.with_columns(score=scores.gather(ranked["row"]))
    worst = ranked.top_k(most, by=["score", -pl.col("row").cast(pl.Int64)])
    return worst.sort(["score", "row"], descending=[True, False]), ranked.height


def accounts_by_topic(judgement: Judgement) -> dict[str, int]:
    """How many accounts are in breach of any rule of each topic."""
    counts = {}
    for topic in TOPICS:
        rules = [rule for rule in judgement.rulebook.rules if rule.topic == topic]
        parts = [pl.Series([], dtype=pl.UInt32)]
        parts += [judgement.accounts(rule, judgement.rows(rule, Verdict.BREACH)) for rule in rules]
        counts[topic] = pl.concat([part.cast(pl.UInt32) for part in parts]).drop_nulls().n_unique()
    return counts


def breaches_in_short(judgement: Judgement, accounts: pl.Series) -> pl.DataFrame:
    """How many breaches each of these accounts has, and which is the gravest, without a word on any of them.

    `accounts` are rows of the account table; so is `row`, with `breaches`, and `severity` and `title` of the
    gravest: the first that `findings` would tell of.
    """
    parts = [pl.DataFrame(schema={"row": pl.UInt32(), "severity": pl.String(), "title": pl.String()})]
    for found in alike(judgement, (Verdict.BREACH,), accounts):
        assert isinstance(found.demand, Rule) and found.rows is not None, "numbers are no account's"
        rows = judgement.accounts(found.demand, found.rows).cast(pl.UInt32).alias("row").to_frame()
        parts.append(
            rows.with_columns(
                pl.lit(found.demand.severity.word).alias("severity"),
                pl.lit(found.demand.title).alias("title"),
            )
        )
    of_each = pl.concat(parts).group_by("row", maintain_order=True)
    counted = of_each.agg(pl.len().alias("breaches"), pl.first("severity", "title"))
    return accounts.alias("row").to_frame().join(counted, on="row", how="left", maintain_order="left")


# A score is one whole number with fifteen bits for each of the four severities, the gravest in the highest:
# to compare two scores is to compare the counts of the gravest first. 63 bits hold them; a severity's count
# would run into the next only above 32,767 breaches, of which no account has one for each of so many rules.
_BITS_A_SEVERITY = 15
