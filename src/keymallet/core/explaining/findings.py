"""Findings: each breach and each unproven verdict with its account and its reason, as one frame."""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple

import polars as pl

from keymallet.core.base.listing import how_many
from keymallet.core.base.parallel import in_parallel
from keymallet.core.evaluating.steps import END, ROW
from keymallet.core.explaining.explanation_context import ExplanationContext
from keymallet.core.explaining.finding_subject import subjects_of
from keymallet.core.explaining.missing import missing
from keymallet.core.explaining.reason_rows import REASONS, reason_rows
from keymallet.core.explaining.reasons import Reason, because, reasons
from keymallet.core.explaining.remedies import remedy
from keymallet.core.explaining.tally_reasons import asked_for, named_members
from keymallet.core.explaining.untold import what_is_untold
from keymallet.core.facts.declaration import EXEMPTION, PERSON, TABLES
from keymallet.core.facts.evidence import INSTANT
from keymallet.core.facts.model import Table
from keymallet.core.judging.exemptions import ENTRY, in_force
from keymallet.core.judging.judge import Judgement
from keymallet.core.judging.verdict_periods import exempt_until
from keymallet.core.judging.verdicts import Verdict
from keymallet.core.language.lowering import AT
from keymallet.core.rulebook.model import SEVERITIES, Demand, Rule, Tally

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
    "since",
    "until",
    "exemption",
    "mend",
    "change",
    "cite",
    "advice",
)
"""What a finding says. `subject` is the key, grant, … that the verdict is on, where it is not the account.
Where it is on something in force in a source (a setting), or on a person, `account` names the source;
a finding on a number has none. `since` is when the verdict began, `until` when time alone ends it: a
breach that ends by itself, a grace or an exemption that is over, a rule no longer met. `exemption` are
the entries of the register that cover an exempt breach. `mend` is the kind of change
that ends a breach, `change` what to do about this one.
"""


SHORTCOMINGS = (Verdict.BREACH, Verdict.PENDING, Verdict.EXEMPT, Verdict.UNPROVEN)
EVERY_VERDICT = (*SHORTCOMINGS, Verdict.MET)
_BROKEN = (Verdict.BREACH, Verdict.PENDING, Verdict.EXEMPT)


def findings(
    judgement: Judgement,
    verdicts: tuple[Verdict, ...] = SHORTCOMINGS,
    accounts: pl.Series | None = None,
    topic: str | None = None,
    *,
    together: bool = False,
    structured: bool = False,
) -> pl.DataFrame:
    """Each verdict of these kinds, in their order; within a kind the gravest rule first.

    With `together`, a rule that could be judged of nobody, because no source tells of what it rests on, is
    one finding and not one for each account.

    With `structured`, `reasons` has what `because` says as templates and arguments: see `reason_rows`.

    With `accounts`, rows of the account table, only the verdicts on these; with `topic`, those by its
    rules alone.
    """
    return describe(
        judgement, alike(judgement, verdicts, accounts, topic, together=together), structured=structured
    )


class Alike(NamedTuple):
    """Findings of one rule and verdict: the rows of its table they are on.

    None where they are on numbers, or where the rule could be judged of nobody, which is one finding.
    """

    demand: Demand
    verdict: Verdict
    rows: pl.Series | None = None


def alike(
    judgement: Judgement,
    verdicts: tuple[Verdict, ...] = SHORTCOMINGS,
    accounts: pl.Series | None = None,
    topic: str | None = None,
    *,
    together: bool = False,
) -> list[Alike]:
    """All findings that `findings` describes, in its order, as the rows they are on."""
    rules = [rule for rule in judgement.rulebook.rules if topic in (None, rule.topic)]
    gravest_first = sorted(rules, key=lambda rule: -rule.severity)
    nobody = of_nobody(judgement) if together else {}
    wanted = None if accounts is None else accounts.implode()
    found = []
    for verdict in verdicts:
        for rule in gravest_first:
            if verdict is Verdict.UNPROVEN and rule.id in nobody:
                continue
            rows = judgement.rows(rule, verdict)
            if wanted is not None and len(rows):
                rows = rows.filter(judgement.accounts(rule, rows).is_in(wanted))
            if len(rows):
                found.append(Alike(rule, verdict, rows))
        if verdict is Verdict.UNPROVEN:
            found += [Alike(rule, verdict) for rule in gravest_first if rule.id in nobody]
        if accounts is None:
            tallies = sorted(judgement.rulebook.tallies, key=lambda tally: -tally.severity)
            found += [
                Alike(tally, verdict) for tally in tallies if len(with_verdict(judgement, tally, verdict))
            ]
    return found


def number_of(judgement: Judgement, found: Alike) -> int:
    """How many findings these are."""
    if isinstance(found.demand, Tally):
        return with_verdict(judgement, found.demand, found.verdict).height
    return 1 if found.rows is None else len(found.rows)


def describe(
    judgement: Judgement, found: list[Alike], *, structured: bool = False, timed: bool = True
) -> pl.DataFrame:
    """What is said of findings, in their order: see `findings`. Without `timed`, no since and no until."""
    # Each rule is described by itself, side by side.
    parts = in_parallel(lambda item: _described_alike(judgement, item, structured, timed), found)
    # What is said of numbers, or of nobody, has no reasons of this kind.
    nothing = _nothing()
    if structured:
        nothing = nothing.with_columns(pl.lit(None, dtype=REASONS).alias("reasons"))
    return pl.concat([nothing, *parts], how="diagonal" if structured else "vertical")


def _described_alike(judgement: Judgement, found: Alike, structured: bool, timed: bool) -> pl.DataFrame:
    if isinstance(found.demand, Tally):
        return _numbers(judgement, found.demand, with_verdict(judgement, found.demand, found.verdict))
    assert isinstance(found.demand, Rule)
    if found.rows is None:
        return _on_nobody(judgement, found.demand)
    return _described(judgement, found.demand, found.verdict, found.rows, structured, timed)


def with_verdict(judgement: Judgement, tally: Tally, verdict: Verdict) -> pl.DataFrame:
    """The numbers of a tally that got this verdict."""
    return judgement.numbers[tally.id].filter(pl.col("verdict") == int(verdict))


def of_nobody(judgement: Judgement) -> dict[str, tuple[str, ...]]:
    """The rules that could be judged of nobody, by id: the facts that no source reports."""
    found = {
        count.rule.id: what_is_untold(judgement, count)
        for count in judgement.counts()
        if isinstance(count.rule, Rule)
    }
    return {rule: what for rule, what in found.items() if what}


def _on_nobody(judgement: Judgement, rule: Rule) -> pl.DataFrame:
    (count,) = (count for count in judgement.counts() if count.rule is rule)
    noun = "row" if TABLES[rule.table].owner == "" else rule.table
    row = {
        "verdict": Verdict.UNPROVEN.word,
        "subject": f"all {how_many(count.unproven, noun)}",
        "missing": [f"{name} (not reported by any source)" for name in what_is_untold(judgement, count)],
        "exemption": [],
    }
    frame = pl.DataFrame([row], schema_overrides=_nothing().schema)
    absent = [pl.lit(None, dtype=t).alias(n) for n, t in _nothing().schema.items() if n not in row]
    return frame.with_columns(absent).with_columns(_of_demand(rule)).select(COLUMNS)


def on_numbers(judgement: Judgement, verdicts: tuple[Verdict, ...] = (Verdict.BREACH,)) -> pl.DataFrame:
    """The verdicts on numbers, the gravest first."""
    parts = [_nothing()]
    for tally in sorted(judgement.rulebook.tallies, key=lambda tally: -tally.severity):
        numbers = judgement.numbers[tally.id].filter(pl.col("verdict").is_in(list(map(int, verdicts))))
        if numbers.height:
            parts.append(_numbers(judgement, tally, numbers))
    return pl.concat(parts)


def on_people(judgement: Judgement) -> pl.DataFrame:
    """The breaches that are a person's, whatever account they are about."""
    return _of_no_account(judgement, _is_people)


def on_systems(judgement: Judgement) -> pl.DataFrame:
    """The breaches that are nobody's: of what a source has in force, such as its settings."""
    return _of_no_account(judgement, _is_in_force)


def on_register(judgement: Judgement) -> pl.DataFrame:
    """The breaches of entries of the register of exemptions."""
    return _of_no_account(judgement, _is_register)


class Besides(NamedTuple):
    """How many have breaches that are no account's: people, systems, entries of the register, counts."""

    people: int
    systems: int
    entries: int
    counts: int


def besides(judgement: Judgement) -> Besides:
    """Count what `on_people` and its like describe, without describing it."""
    systems: set[str] = set()
    people, entries = (
        pl.concat(
            [_NOBODY, *(judgement.rows(rule, Verdict.BREACH) for rule in _rules_on(judgement, of))]
        ).n_unique()
        for of in (_is_people, _is_register)
    )
    for rule in _rules_on(judgement, _is_in_force):
        sources = judgement.context.frames[rule.table]["source"].cast(pl.String)
        systems |= set(sources.gather(judgement.rows(rule, Verdict.BREACH)))
    breached = (numbers["verdict"] == int(Verdict.BREACH) for numbers in judgement.numbers.values())
    return Besides(people, len(systems), entries, sum(bool(each.any()) for each in breached))


_NOBODY = pl.Series(dtype=pl.UInt32)


def _is_people(table: Table) -> bool:
    return table is PERSON


def _is_in_force(table: Table) -> bool:
    return "source" in table.names and not table.owner


def _is_register(table: Table) -> bool:
    return table is EXEMPTION


def _rules_on(judgement: Judgement, of: Callable[[Table], bool]) -> list[Rule]:
    return [rule for rule in judgement.rulebook.rules if of(TABLES[rule.table])]


def _of_no_account(judgement: Judgement, of: Callable[[Table], bool]) -> pl.DataFrame:
    parts = []
    for rule in sorted(_rules_on(judgement, of), key=lambda rule: -rule.severity):
        rows = judgement.rows(rule, Verdict.BREACH)
        if len(rows):
            parts.append(_described(judgement, rule, Verdict.BREACH, rows))
    return pl.concat(parts) if parts else _nothing()


def about_account(
    row: int, around: Judgement, among_all: Judgement, *, met_until: bool = True
) -> pl.DataFrame:
    """Every verdict on one account and on its person: the broken ones first, the gravest of each first.

    `row` is the account's in `among_all`, which judges everybody by the rules on values that must not be
    shared. `around` judges the account with its person's other accounts by all other rules. Without
    `met_until`, it is not worked out since when a rule is met and until when: most of them are.
    """
    account = among_all.evidence.tables["account"]["account"][row]
    of_people = [rule.id for rule in around.rulebook.rules if rule.table == PERSON.name]
    about = (pl.col("account") == account) | pl.col("rule").is_in(of_people)
    only = pl.Series([row], dtype=pl.UInt32)
    parts = []
    for judgement, rows in ((around, None), (among_all, only)):
        met = describe(judgement, alike(judgement, (Verdict.MET,), rows), timed=met_until)
        told = pl.concat([findings(judgement, SHORTCOMINGS, rows), met])
        parts.append(told.filter(about) if rows is None else told)
    verdicts, grades = pl.Enum([verdict.word for verdict in EVERY_VERDICT]), pl.Enum(list(SEVERITIES))
    by = [pl.col("verdict").cast(verdicts), pl.col("severity").cast(grades)]
    return pl.concat(parts).sort(by, maintain_order=True)


def _described(
    judgement: Judgement,
    rule: Rule,
    verdict: Verdict,
    rows: pl.Series,
    structured: bool = False,
    timed: bool = True,
) -> pl.DataFrame:
    context = judgement.context
    nothing = pl.lit(None, dtype=pl.String)
    told: list[pl.Series | pl.Expr] = [
        nothing.alias("because"),
        pl.lit([], pl.List(pl.String)).alias("missing"),
    ]
    found: list[Reason] = []
    changed: pl.Series | pl.Expr = nothing.alias("change")
    subjects = subjects_of(context, TABLES[rule.table], rows)
    if verdict in _BROKEN:
        explained = ExplanationContext(context, rule.table, rows, rule.must)
        found = reasons(explained, rule.who)
        told[0] = because(found, explained)
        changed = remedy(explained, rule, subjects)
    if verdict is Verdict.UNPROVEN:
        told[1] = missing(context, rule.table, [rule.who, rule.must], rows)
    times = _times(judgement, rule, verdict, rows) if timed else _NO_TIMES
    columns = [*COLUMNS, "reasons"] if structured else COLUMNS
    return (
        subjects.with_columns(*told, changed, *([reason_rows(found, len(rows))] if structured else []))
        .with_columns(*times, _exemptions(judgement, rule, verdict, rows))
        .with_columns(_of_demand(rule), verdict=pl.lit(verdict.word))
        .select(columns)
    )


def _of_demand(demand: Demand) -> list[pl.Expr]:
    """What is the same in all findings of a rule or tally."""
    return [
        pl.lit(demand.id).alias("rule"),
        pl.lit(demand.title).alias("title"),
        pl.lit(demand.severity.word).alias("severity"),
        pl.lit(list(demand.cite), dtype=pl.List(pl.String)).alias("cite"),
        pl.lit(demand.advice).alias("advice"),
        pl.lit(demand.mend).alias("mend"),
    ]


_NO_TIMES = [pl.lit(None, dtype=INSTANT).alias(name) for name in ("since", "until")]


def _times(judgement: Judgement, rule: Rule, verdict: Verdict, rows: pl.Series) -> list[pl.Series]:
    """Since when the verdict has held and until when it does, as far as time alone decides."""
    began = judgement.since(rule, rows)
    if verdict is Verdict.MET:
        asked, turns = rows.alias(ROW).to_frame(), judgement.turning(rule, rows)
        ends = asked.join(turns, on=ROW, how="left", maintain_order="left")[AT].alias("until")
    else:
        ends = judgement.until(rule, rows)
    if verdict is Verdict.EXEMPT:
        covered = exempt_until(_covered(judgement, rule), judgement.at, rows)
        times = pl.DataFrame({"ends": ends, "covered": covered})
        ends = times.select(until=pl.min_horizontal("ends", "covered"))["until"]
    if verdict is Verdict.PENDING:
        times = pl.DataFrame({"due": began + rule.grace, "ends": ends})
        ends = times.select(until=pl.min_horizontal("due", "ends", pl.lit(END, dtype=INSTANT)))["until"]
    return [began, ends]


def _covered(judgement: Judgement, rule: Rule) -> pl.DataFrame:
    covered = judgement.covered(rule)
    assert covered is not None, "nothing is exempt without a register"
    return covered


def _exemptions(judgement: Judgement, rule: Rule, verdict: Verdict, rows: pl.Series) -> pl.Series:
    """The ids of the exemptions that cover these rows; empty lists where none is asked about."""
    if verdict is not Verdict.EXEMPT or judgement.covers is None:
        return pl.Series("exemption", [[]], dtype=pl.List(pl.String)).new_from_index(0, len(rows))
    ids = pl.Series([entry.id for entry in judgement.covers.register.exemptions], dtype=pl.String)
    holding = in_force(_covered(judgement, rule), judgement.at)
    named = holding.select(ROW, exemption=ids.gather(holding[ENTRY])).group_by(ROW, maintain_order=True)
    asked = rows.cast(pl.UInt32).alias(ROW).to_frame()
    return asked.join(named.agg("exemption"), on=ROW, how="left", maintain_order="left")["exemption"]


def _numbers(judgement: Judgement, tally: Tally, numbers: pl.DataFrame) -> pl.DataFrame:
    """Findings on numbers: how many there are, how many are asked for, and the first few by name."""
    words = {int(verdict): verdict.word for verdict in Verdict}
    unknown = pl.col("verdict") == int(Verdict.UNPROVEN)
    nothing = pl.lit(None, dtype=pl.String)
    return (
        numbers.with_columns(named=named_members(judgement.context, tally, numbers))
        .with_columns(
            because=pl.when(~unknown).then(pl.format("{}; {}", "named", pl.lit(asked_for(tally)))),
            missing=pl.when(unknown)
            .then(pl.concat_list(pl.format("whether {} more count", "may")))
            .otherwise(pl.lit([], dtype=pl.List(pl.String))),
            verdict=pl.col("verdict").replace_strict(words, return_dtype=pl.String),
            account=nothing,
            subject=pl.when(pl.col("group").is_not_null()).then(
                pl.format("{} {}", pl.lit(tally.by), "group")
            ),
            display=nothing,
            unit=pl.col("group") if tally.by == "unit" else nothing,
            since=pl.lit(None, dtype=INSTANT),
            until=pl.lit(None, dtype=INSTANT),
            exemption=pl.lit([], dtype=pl.List(pl.String)),
            change=pl.when(pl.col("verdict") == int(Verdict.BREACH)).then(_number_needed(tally)),
        )
        .with_columns(_of_demand(tally))
        .select(COLUMNS)
    )


def _number_needed(tally: Tally) -> pl.Expr:
    few = pl.col("sure") + pl.col("may") < tally.least
    short = pl.format("have {} more", tally.least - pl.col("sure") - pl.col("may"))
    return pl.when(few).then(short).otherwise(pl.format("have {} fewer", pl.col("sure") - tally.most))


def _nothing() -> pl.DataFrame:
    lists = dict.fromkeys(("missing", "cite", "exemption"), pl.List(pl.String))
    kinds = {**lists, "since": INSTANT, "until": INSTANT}
    return pl.DataFrame(schema={name: kinds.get(name, pl.String()) for name in COLUMNS})
