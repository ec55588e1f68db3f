"""Show everything known of one account: how it gets in, facts and their sources, verdicts and why."""

from __future__ import annotations

import argparse

from keymallet.commands.exit_codes import CLEAN
from keymallet.commands.judging_inputs import open_inputs
from keymallet.commands.last_known import last_known
from keymallet.core.explaining.findings import about_account
from keymallet.core.explaining.unlocking import read_conditions, unlockers
from keymallet.core.facts.lookup import find_accounts, of_same_person
from keymallet.core.history.added import with_lives
from keymallet.core.history.columns import ANSWERER, FINDING, LABEL
from keymallet.core.topics.registry import TOPICS
from keymallet.core.topics.report import work_out
from keymallet.views.account import show_account
from keymallet.views.summary import show_gaps
from keymallet.views.terminal import console, show_hints
from keymallet.views.topic_words.registry import WORDS

LINES, LEAST_BREACHES = 30, 2
"""About so many lines are breaches, three each, where not everything is asked for; and so many at least."""


def run(options: argparse.Namespace) -> int:
    """Find the account and show it. Raises KeymalletError if there is none of that name."""
    inputs = open_inputs(options)
    evidence = inputs.evidence()
    # Whether an account shares a value its own facts do not tell: those rules are judged once, for all.
    shared = {rule.id for rule in inputs.rulebook.rules if rule.distinct}
    others = {rule.id for rule in inputs.rulebook.rules} - shared
    among_all = inputs.judge(evidence, inputs.rulebook.only(lambda rule: rule.id in shared))
    by_others = inputs.rulebook.only(lambda rule: rule.id in others)
    nothing = inputs.rulebook.only(lambda rule: False)
    out = console()
    conditions = read_conditions(inputs.unlocks, inputs.rulebook)
    found = find_accounts(evidence, options.account)
    most = None if options.all else max(LINES // (3 * len(found)), LEAST_BREACHES)
    known = last_known(inputs.estate, (*LABEL, FINDING, "state", "first-seen", "due", ANSWERER, "cause"))
    for number, row in enumerate(found):
        around = inputs.judge(evidence.around(row), by_others)
        alone = inputs.judge(evidence.only([row]), nothing)
        topics = {
            name: WORDS[name].of_account(work_out(topic, alone, inputs.rulebook), inputs.clock)
            for name, topic in (TOPICS.items() if options.all else ())
        }
        if number:
            out.print()
        verdicts = about_account(row, around, among_all, met_until=options.all)
        if known is not None:
            verdicts = with_lives(verdicts, known.findings, inputs.at)
        unlocked_by = unlockers(alone.context, inputs.unlocks, conditions, inputs.rulebook)
        show_account(out, alone.context, verdicts, of_same_person(evidence, row), topics, most, unlocked_by)
    out.print()
    show_gaps(out, inputs.gaps)
    hints = [("keymallet dictionary account", "what each fact means"), ("keymallet judge", "all accounts")]
    if not options.all:
        hints[0] = (f"keymallet show {options.account} --all", "every verdict, fact and date")
    show_hints(out, hints)
    return CLEAN
