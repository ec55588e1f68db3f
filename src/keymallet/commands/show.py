"""Show everything known of one account: how it gets in, facts and their sources, verdicts and why."""

from __future__ import annotations

import argparse

from keymallet.commands.common import add_judging, open_case
from keymallet.commands.main import CLEAN

EXAMPLES = [
    ("keymallet show directory/emergency-2", "one account of one source"),
    ("keymallet show ticketing/tix-1/n.arvstetter", "can this person get in, how, and until when?"),
    ("keymallet show root", "every account of that login name, whichever source it is in"),
]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments."""
    parser.add_argument("account", help="source/name, or a login name or mail address")
    add_judging(parser)


def run(options: argparse.Namespace) -> int:
    """Find the account and show it. Raises KeymalletError if there is none of that name."""
    from keymallet.core.explaining.findings import about_account
    from keymallet.core.facts.lookup import find_accounts, of_same_person
    from keymallet.core.topics.about import about
    from keymallet.core.topics.registry import TOPICS
    from keymallet.core.topics.report import work_out
    from keymallet.views.account import show_account
    from keymallet.views.summary import show_hints
    from keymallet.views.terminal import console

    case = open_case(options)
    evidence = case.evidence()
    # Whether an account shares a value its own facts do not tell: those rules are judged once, for all.
    shared = {rule.id for rule in case.rulebook.rules if rule.distinct}
    others = {rule.id for rule in case.rulebook.rules} - shared
    among_all = case.judge(evidence, case.rulebook.only(lambda rule: rule.id in shared))
    by_others = case.rulebook.only(lambda rule: rule.id in others)
    nothing = case.rulebook.only(lambda rule: False)
    out = console()
    for number, row in enumerate(find_accounts(evidence, options.account)):
        around = case.judge(evidence.around(row), by_others)
        alone = case.judge(evidence.only([row]), nothing)
        topics = {name: about(work_out(topic, alone), case.clock) for name, topic in TOPICS.items()}
        if number:
            out.print()
        told = about_account(row, around, among_all)
        show_account(out, alone.context, told, of_same_person(evidence, row), topics)
    out.print()
    show_hints(
        out, [("keymallet dictionary account", "what each fact means"), ("keymallet judge", "all accounts")]
    )
    return CLEAN
