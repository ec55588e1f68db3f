"""Show everything known of one account: how it gets in, facts and their sources, verdicts and why."""

from __future__ import annotations

import argparse
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from typing import NamedTuple

from rich.console import Console

from keymallet.commands.exit_codes import CLEAN
from keymallet.commands.judging_inputs import JudgingInputs, open_inputs
from keymallet.commands.last_known import last_known
from keymallet.core.evaluating.elsewhere import Elsewhere
from keymallet.core.explaining.findings import about_account
from keymallet.core.explaining.unlocking import read_conditions, unlockers
from keymallet.core.facts.evidence import Evidence
from keymallet.core.facts.lookup import find_accounts, of_same_person
from keymallet.core.history.added import with_lives
from keymallet.core.history.columns import ANSWERER, FINDING, LABEL
from keymallet.core.judging.judge import Judgement
from keymallet.core.rulebook.model import Demand, Rule
from keymallet.core.topics.registry import TOPICS
from keymallet.core.topics.report import work_out
from keymallet.views.account import show_account
from keymallet.views.summary import show_gaps
from keymallet.views.terminal import console, show_hints
from keymallet.views.topic_words.registry import WORDS

LINES, LEAST_BREACHES = 30, 2
"""About so many lines are breaches, three each, where not everything is asked for; and so many at least."""
_KNOWN = (*LABEL, FINDING, "state", "first-seen", "due", ANSWERER, "cause")
"""What is asked of the last run's findings."""


def run(options: argparse.Namespace) -> int:
    """Find the account and show it. Raises KeymalletError if there is none of that name."""
    inputs = open_inputs(options)
    out = console()
    with _found(options, inputs) as found:
        shown = _Shown(options, inputs, found.number)
        for number, (account, row) in enumerate((each, row) for each in found.where for row in each.rows):
            if number:
                out.print()
            shown.show(out, account, row)
    out.print()
    show_gaps(out, inputs.gaps)
    hints = [("keymallet dictionary account", "what each fact means"), ("keymallet judge", "all accounts")]
    if not options.all:
        hints[0] = (f"keymallet show {options.account} --all", "every verdict, fact and date")
    show_hints(out, hints)
    return CLEAN


class _Where(NamedTuple):
    """Accounts that lie together: the evidence on them, what holds in other shards, and their rows.

    `among_all` judges everybody by the rules on values that must not be shared: whether an account shares
    one its own facts do not tell.
    """

    evidence: Evidence
    elsewhere: Elsewhere | None
    among_all: Judgement
    rows: list[int]

    @classmethod
    def of(
        cls, inputs: JudgingInputs, evidence: Evidence, rows: list[int], elsewhere: Elsewhere | None = None
    ) -> _Where:
        """Judge these rules of all that lies there."""
        shared = inputs.rulebook.only(_is_on_shared)
        return cls(evidence, elsewhere, inputs.judge(evidence, shared, elsewhere=elsewhere), rows)


class _Found(NamedTuple):
    """The accounts that are shown: how many, and where they lie."""

    number: int
    where: Iterable[_Where]


@contextmanager
def _found(options: argparse.Namespace, inputs: JudgingInputs) -> Iterator[_Found]:
    if inputs.snapshot.shards == 1:
        evidence = inputs.evidence()
        rows = find_accounts(evidence, options.account)
        yield _Found(len(rows), [_Where.of(inputs, evidence, rows)])
        return
    from keymallet.commands.shards import shards_of
    from keymallet.sharded.looking import find_in_shards

    with shards_of(options, inputs) as shards:
        found = find_in_shards(shards, options.account)
        by_shard: dict[int, list[int]] = {}
        for shard, row in found:
            by_shard.setdefault(shard, []).append(row)
        yield _Found(
            len(found),
            (
                _Where.of(inputs, inputs.snapshot.shard(shard), rows, shards.case.elsewhere(shard))
                for shard, rows in by_shard.items()
            ),
        )


def _is_on_shared(demand: Demand) -> bool:
    """Whether it is a rule on values that must not be shared."""
    return isinstance(demand, Rule) and bool(demand.distinct)


class _Shown:
    """What is the same for all accounts that are shown: so many, with the options as they are."""

    def __init__(self, options: argparse.Namespace, inputs: JudgingInputs, number: int) -> None:
        self._options = options
        self._inputs = inputs
        self._most = None if options.all else max(LINES // (3 * number), LEAST_BREACHES)
        self._known = last_known(inputs.estate, _KNOWN)
        book = inputs.rulebook
        self._others = book.only(lambda demand: isinstance(demand, Rule) and not _is_on_shared(demand))
        self._nothing = book.only(lambda _: False)
        self._conditions = read_conditions(inputs.unlocks, book)

    def show(self, out: Console, where: _Where, row: int) -> None:
        """One account."""
        inputs, evidence = self._inputs, where.evidence
        around = inputs.judge(evidence.around(row), self._others, elsewhere=where.elsewhere)
        alone = inputs.judge(evidence.only([row]), self._nothing)
        topics = {
            name: WORDS[name].of_account(work_out(topic, alone, inputs.rulebook), inputs.clock)
            for name, topic in (TOPICS.items() if self._options.all else ())
        }
        verdicts = about_account(row, around, where.among_all, met_until=self._options.all)
        if self._known is not None:
            verdicts = with_lives(verdicts, self._known.findings, inputs.at)
        unlocked_by = unlockers(alone.context, inputs.unlocks, self._conditions, inputs.rulebook)
        others = of_same_person(evidence, row)
        show_account(out, alone.context, verdicts, others, topics, self._most, unlocked_by)
