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
    from keymallet.core.findings import about_account, on_shared_values
    from keymallet.core.judge import judge
    from keymallet.core.lookup import find_accounts, of_same_person
    from keymallet.views.account import show_account
    from keymallet.views.summary import show_hints
    from keymallet.views.terminal import console

    case = open_case(options)
    evidence = case.snapshot.evidence()
    shared = on_shared_values(evidence, case.rulebook, case.at, case.clock)
    out = console()
    for number, row in enumerate(find_accounts(evidence, options.account)):
        alone = judge(evidence.only([row]), case.rulebook, case.at, case.clock)
        around = judge(evidence.around(row), case.rulebook, case.at, case.clock)
        if number:
            out.print()
        show_account(out, alone, about_account(around, alone, shared), of_same_person(evidence, row))
    out.print()
    show_hints(
        out, [("keymallet facts account", "what each fact means"), ("keymallet judge", "all accounts")]
    )
    return CLEAN
