"""Try the cases beside a rulebook, and show what they leave untried."""

from __future__ import annotations

import argparse
from pathlib import Path

from keymallet.commands.books import book_paths, read_rulebook_file
from keymallet.commands.exit_codes import BREACH, CLEAN
from keymallet.core.base.nearest import did_you_mean
from keymallet.core.base.problems import fail
from keymallet.core.judging.verdicts import Verdict
from keymallet.core.studies.cases import read_cases, rules_without, try_case
from keymallet.core.studies.coverage import untried
from keymallet.sources.rulebooks import read_book, read_cases_of
from keymallet.views.cases import show_coverage, show_failures, show_tried
from keymallet.views.terminal import console


def run(options: argparse.Namespace) -> int:
    """Try them; code 1 if one comes out otherwise. Raises KeymalletError if the cases have faults."""
    paths = book_paths(options.rulebook, options.estate)
    if options.cases and len(paths) > 1:
        raise fail("cases belong to one rulebook", hint="name it: keymallet rules try BOOK --cases FILE")
    return max(_try(options, path) for path in paths)


def _try(options: argparse.Namespace, path: Path) -> int:
    book = read_rulebook_file(path)
    text, name = read_book(Path(options.cases)) if options.cases else read_cases_of(path)
    cases = read_cases(text, name, book)
    if options.rule:
        ids = [demand.id for demand in book.demands]
        if options.rule not in ids:
            hint = did_you_mean(options.rule, ids) or "keymallet rules show lists them"
            raise fail(f'the rulebook has no rule "{options.rule}"', hint=hint)
        cases = [case for case in cases if case.rule == options.rule]
    outcomes = [try_case(case, book) for case in cases]
    out = console()
    failed = [outcome for outcome in outcomes if outcome.wrong]
    show_failures(out, name, failed)
    left = untried(book, outcomes)
    without = list(rules_without(book, cases, Verdict.BREACH))
    if options.rule:
        left = [rule_id for rule_id in left if rule_id.where == options.rule]
        without = [rule_id for rule_id in without if rule_id.id == options.rule]
    show_coverage(out, without, left)
    show_tried(out, book, outcomes, failed)
    return BREACH if failed or (options.strict and (left or without)) else CLEAN
