"""Show everything known of one account: how it gets in, facts and their sources, verdicts and why."""

from __future__ import annotations

import argparse
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from typing import NamedTuple

from rich.console import Console

from keymallet.commands.exit_codes import CLEAN
from keymallet.commands.judging_inputs import JudgingInputs, open_inputs
from keymallet.commands.last_known import LastKnown, last_known
from keymallet.core.evaluating.elsewhere import Elsewhere
from keymallet.core.explaining.findings import about_account
from keymallet.core.explaining.unlocking import read_conditions, unlockers
from keymallet.core.facts.evidence import Evidence
from keymallet.core.facts.lookup import find_accounts, of_same_person
from keymallet.core.history.added import with_lives
from keymallet.core.history.columns import ANSWERER, FINDING, LABEL
from keymallet.core.judging.judge import Judgement
from keymallet.core.rulebook.model import Rule, Rulebook
from keymallet.core.topics.registry import TOPICS
from keymallet.core.topics.report import work_out
from keymallet.engines.processes import cores
from keymallet.views.account import show_account
from keymallet.views.summary import show_gaps
from keymallet.views.terminal import console, show_hints
from keymallet.views.topic_words.registry import WORDS

LINES, LEAST_BREACHES = 30, 2
"""About so many lines are breaches, three each, where not everything is asked for; and so many at least."""


def run(options: argparse.Namespace) -> int:
    """Find the account and show it. Raises KeymalletError if there is none of that name."""
    inputs = open_inputs(options)
    with _found(options, inputs) as found:
        out = console()
        most = None if options.all else max(LINES // (3 * found.number), LEAST_BREACHES)
        known = last_known(inputs.estate, (*LABEL, FINDING, "state", "first-seen", "due", ANSWERER, "cause"))
        number = 0
        for evidence, elsewhere, rows in found.where:
            among_all = inputs.judge(evidence, _of_shared(inputs.rulebook, True), elsewhere=elsewhere)
            for row in rows:
                if number:
                    out.print()
                number += 1
                _show(out, options, inputs, known, most, evidence, elsewhere, among_all, row)
    out.print()
    show_gaps(out, inputs.gaps)
    hints = [("keymallet dictionary account", "what each fact means"), ("keymallet judge", "all accounts")]
    if not options.all:
        hints[0] = (f"keymallet show {options.account} --all", "every verdict, fact and date")
    show_hints(out, hints)
    return CLEAN


class _Found(NamedTuple):
    """The accounts that are shown: how many, and where they lie, with what is known of other shards."""

    number: int
    where: Iterable[tuple[Evidence, Elsewhere | None, list[int]]]


@contextmanager
def _found(options: argparse.Namespace, inputs: JudgingInputs) -> Iterator[_Found]:
    if inputs.snapshot.shards == 1:
        evidence = inputs.evidence()
        rows = find_accounts(evidence, options.account)
        yield _Found(len(rows), [(evidence, None, rows)])
        return
    from keymallet.sharded.looking import find_in_shards
    from keymallet.sharded.opened import opened_shards
    from keymallet.sharded.tasks import Basis

    basis = Basis(inputs.rulebook, inputs.register, inputs.at, inputs.clock)
    with opened_shards(inputs.snapshot, basis, workers=options.workers or cores()) as shards:
        found = find_in_shards(shards, options.account)
        by_shard: dict[int, list[int]] = {}
        for shard, row in found:
            by_shard.setdefault(shard, []).append(row)
        yield _Found(
            len(found),
            (
                (inputs.snapshot.shard(shard), shards.case.elsewhere(shard), rows)
                for shard, rows in by_shard.items()
            ),
        )


def _of_shared(rulebook: Rulebook, shared: bool) -> Rulebook:
    """The rules on values that must not be shared, or all others.

    Whether an account shares a value its own facts do not tell: those rules are judged of everybody.
    """
    return rulebook.only(lambda demand: isinstance(demand, Rule) and bool(demand.distinct) is shared)


def _show(
    out: Console,
    options: argparse.Namespace,
    inputs: JudgingInputs,
    known: LastKnown | None,
    most: int | None,
    evidence: Evidence,
    elsewhere: Elsewhere | None,
    among_all: Judgement,
    row: int,
) -> None:
    """One account."""
    book = inputs.rulebook
    around = inputs.judge(evidence.around(row), _of_shared(book, False), elsewhere=elsewhere)
    alone = inputs.judge(evidence.only([row]), book.only(lambda _: False))
    topics = {
        name: WORDS[name].of_account(work_out(topic, alone, book), inputs.clock)
        for name, topic in (TOPICS.items() if options.all else ())
    }
    verdicts = about_account(row, around, among_all, met_until=options.all)
    if known is not None:
        verdicts = with_lives(verdicts, known.findings, inputs.at)
    conditions = read_conditions(inputs.unlocks, book)
    unlocked_by = unlockers(alone.context, inputs.unlocks, conditions, book)
    show_account(out, alone.context, verdicts, of_same_person(evidence, row), topics, most, unlocked_by)
