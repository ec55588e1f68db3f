"""Show the register's entries: which hold, what they cover, what is amiss with them."""

from __future__ import annotations

import argparse

from keymallet.commands.common import open_case, output_stream, write_rows
from keymallet.commands.main import CLEAN


def run(options: argparse.Namespace) -> int:
    """Judge, then list the entries, the worst first."""
    from keymallet.core.base.problems import fail
    from keymallet.core.topics.exemptions import EXEMPTIONS_TOPIC
    from keymallet.core.topics.report import work_out
    from keymallet.views.summary import show_hints
    from keymallet.views.terminal import console
    from keymallet.views.topic import show_entries, show_told

    case = open_case(options)
    if case.register is None:
        raise fail("the estate has no register", hint=NO_REGISTER)
    asked = EXEMPTIONS_TOPIC.asked(case.rulebook)
    judgement = case.judge(case.evidence([*case.rulebook.expressions(), *asked.values()]))
    report = work_out(EXEMPTIONS_TOPIC, judgement)
    if options.format != "table":
        write_rows(options, report.rows, {"organisation": case.organisation, "at": case.at}, "entries")
        return CLEAN
    with output_stream(options.output) as stream:
        out = console(stream)
        show_told(out, report)
        out.print()
        show_entries(out, report, case.clock)
        out.print()
        show_hints(
            out,
            [
                ("keymallet view exemptions", "with emergency accounts, gates and what the rulebook says"),
                ("keymallet exempt add --help", "enter another"),
            ],
        )
    return CLEAN


NO_REGISTER = 'add register = "exemptions.toml" to the estate file, or name one with --register'
