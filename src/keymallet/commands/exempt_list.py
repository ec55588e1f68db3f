"""Show the register's entries: which are in force, what they cover, what to correct."""

from __future__ import annotations

import argparse

from keymallet.commands.exit_codes import CLEAN
from keymallet.commands.judging_inputs import open_inputs
from keymallet.commands.writing import output_stream, write_rows
from keymallet.core.base.problems import fail
from keymallet.core.topics.exemptions import EXEMPTIONS_TOPIC
from keymallet.core.topics.report import work_out
from keymallet.views.terminal import console, show_hints
from keymallet.views.topic import show_entries, show_sentences


def run(options: argparse.Namespace) -> int:
    """Judge, then list the entries, the worst first."""
    inputs = open_inputs(options)
    if inputs.register is None:
        raise fail("the estate has no register", hint=NO_REGISTER)
    asked = EXEMPTIONS_TOPIC.asked(inputs.rulebook)
    judgement = inputs.judge(inputs.evidence([*inputs.rulebook.expressions(), *asked.values()]))
    report = work_out(EXEMPTIONS_TOPIC, judgement, inputs.rulebook)
    if options.format != "table":
        write_rows(
            options,
            report.rows,
            {"organisation": inputs.organisation, "at": inputs.at, "rests-on": inputs.digests},
            "entries",
        )
        return CLEAN
    with output_stream(options.output) as stream:
        out = console(stream)
        show_sentences(out, report, inputs.clock)
        out.print()
        show_entries(out, report, inputs.clock)
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
