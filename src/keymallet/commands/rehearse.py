"""Try another rulebook, or other limits, on the same evidence: who would newly be in breach, who not."""

from __future__ import annotations

import argparse
import shlex
from collections.abc import Callable
from dataclasses import replace
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

import polars as pl

from keymallet.commands.books import read_rulebook_file
from keymallet.commands.exit_codes import CLEAN
from keymallet.commands.judging_inputs import JudgingInputs, open_inputs
from keymallet.commands.opening import instant
from keymallet.commands.writing import output_stream, write_file, write_rows
from keymallet.core.base.listing import how_many
from keymallet.core.base.nearest import did_you_mean
from keymallet.core.base.problems import fail
from keymallet.core.explaining.wording import constant_text
from keymallet.core.facts.declaration import ACCOUNT
from keymallet.core.judging.judge import Judgement
from keymallet.core.judging.verdicts import Verdict
from keymallet.core.language.scope import Limit
from keymallet.core.rulebook.model import Rulebook, rules_with_limit
from keymallet.core.rulebook.reading import read_rulebook
from keymallet.core.studies.rehearse import (
    SetLimit,
    accounts_in_breach,
    changed_rows,
    differences,
    findings_in_breach,
    overlay,
    read_limit_name,
    read_sweep,
)
from keymallet.sources.rulebooks import open_included
from keymallet.views.figures import figure_bytes, format_of
from keymallet.views.rehearse import (
    show_differences,
    show_first,
    show_groups,
    show_instants,
    show_sweep,
    sweep_figure,
)
from keymallet.views.summary import show_gaps, show_run
from keymallet.views.terminal import console, show_hints, text

MOST = 10


def run(options: argparse.Namespace) -> int:
    """Judge by both books and compare. Raises KeymalletError if the request cannot be carried out."""
    if not (options.rulebook or options.settings or options.sweep):
        raise fail("nothing to rehearse", hint="name a --rulebook, or --set limit.NAME=VALUE, or --sweep")
    if options.figure and not options.sweep:
        raise fail("--figure draws the curve of a --sweep", hint="add --sweep limit.NAME=FROM..TO")
    inputs = open_inputs(
        argparse.Namespace(
            estate=options.estate,
            snapshot=options.snapshot,
            rulebook=options.against,
            register=options.register,
            at=next(iter(options.at), None),
        )
    )
    named = read_rulebook_file(Path(options.rulebook)).of_what_exists if options.rulebook else None
    base = named or inputs.rulebook
    settings = dict(_setting(written) for written in options.settings)
    book = _with_limits(base, settings) if settings else base
    if options.sweep:
        return _sweep(options, inputs, base, settings)
    return _compare(options, inputs, book)


def _setting(written: str) -> tuple[SetLimit, str]:
    name, _, value = written.partition("=")
    limit = read_limit_name(name)
    if limit is None or not value:
        hint = "like --set limit.password-age=90d, or 'limit.password-age[contractor]=60d' for some"
        raise fail(f'--set "{written}" sets no limit', hint=hint)
    return limit, value


def _with_limits(book: Rulebook, settings: dict[SetLimit, str]) -> Rulebook:
    """The book with other limits. Raises KeymalletError if it has no such limit, or a value does not fit."""
    for limit in settings:
        if limit.name not in book.limits:
            hint = did_you_mean(limit.name, book.limits) or f"there are: {', '.join(sorted(book.limits))}"
            raise fail(f'the rulebook has no limit "{limit.name}"', hint=hint)
    changed = read_rulebook(overlay(book.title, book.roots, settings), "--set", open_included)
    for limit in settings:
        if limit.population and limit.population not in dict(changed.populations.get(limit.name, ())):
            said = f'"{limit.population}" is no term of the book that sets {limit.name}'
            raise fail(said, hint="name one of its own terms, or add this one there")
    # A rule that the estate prefers another to stays out.
    ids = {demand.id for demand in book.demands}
    return replace(changed.only(lambda demand: demand.id in ids), edition=book.edition)


def _compare(options: argparse.Namespace, inputs: JudgingInputs, book: Rulebook) -> int:
    judged = _judging(inputs, inputs.rulebook, book)
    before, after = judged(inputs.rulebook, inputs.at), judged(book, inputs.at)
    rows = changed_rows(before, after)
    if options.format != "table":
        write_rows(options, rows, _head(inputs), "changes")
        return CLEAN
    numbers = {inputs.at: (accounts_in_breach(before), accounts_in_breach(after))}
    for at in (instant(written, inputs.clock) for written in options.at[1:]):
        numbers[at] = (accounts_in_breach(judged(inputs.rulebook, at)), accounts_in_breach(judged(book, at)))
    with output_stream(options.output) as stream:
        out = console(stream)
        show_run(out, inputs.run(after))
        out.print()
        show_differences(out, differences(before, after))
        if rows.height:
            out.print()
            show_groups(out, rows)
            show_first(out, rows, MOST)
        if len(numbers) > 1:
            out.print()
            show_instants(out, [(at, *numbers[at]) for at in sorted(numbers)], inputs.clock)
        out.print()
        now, then = numbers[inputs.at]
        waiting = sum(len(after.rows(rule, Verdict.PENDING)) for rule in after.rulebook.rules)
        later = f", and {how_many(waiting, 'finding')} would be under grace" if waiting else ""
        closing = f"{how_many(then, 'account')} would be in breach, where {now:,} are now{later}."
        out.print(text(closing, "bold"))
        show_gaps(out, inputs.gaps)
        show_hints(out, [(f"{_said(options)} --format csv --output changes.csv", "every change")])
    return CLEAN


def _said(options: argparse.Namespace) -> str:
    """The command as it was given, as far as it says what is rehearsed."""
    words = ["--rulebook", options.rulebook] if options.rulebook else []
    words += [word for setting in options.settings for word in ("--set", setting)]
    words += [word for at in options.at[:1] for word in ("--at", at)]
    return shlex.join(["keymallet", "rehearse", *words])


def _judging(inputs: JudgingInputs, *books: Rulebook) -> Callable[[Rulebook, datetime], Judgement]:
    """Judges by any of these books at any instant, on evidence that is read once."""
    evidence = inputs.evidence(
        (expression for book in books for expression in book.expressions()), {ACCOUNT.name: ("kind",)}
    )
    return lambda book, at: inputs.judge(evidence, book, at)


def _sweep(
    options: argparse.Namespace, inputs: JudgingInputs, base: Rulebook, settings: dict[SetLimit, str]
) -> int:
    wanted = read_sweep(options.sweep)
    if wanted is None:
        raise fail(
            f'--sweep "{options.sweep}" is no stretch of a limit', hint="like limit.password-age=30d..365d"
        )
    tried = [_with_limits(base, settings | {wanted.limit: str(value)}) for value in wanted.values]
    rules = rules_with_limit(tried[0], wanted.limit.name)
    judged = _judging(inputs, inputs.rulebook, base)
    limits = [wanted.limit.of(book) for book in tried]
    tried = [book.only(lambda rule: rule.id in rules) for book in tried]
    judgements = [judged(book, inputs.at) for book in tried]
    points = [
        (constant_text(limit), accounts_in_breach(judgement), findings_in_breach(judgement))
        for limit, judgement in zip(limits, judgements, strict=True)
    ]
    present = wanted.limit.of(base)
    outcome = inputs.run(judged(inputs.rulebook, inputs.at))
    if options.figure:
        form = format_of(options.figure)
        unit = "days" if isinstance(getattr(present, "value", None), timedelta) else ""
        places = [_place(limit) for limit in limits]
        figure = sweep_figure(wanted.limit.shown, points, places, _place(present), unit, outcome)
        write_file(Path(options.figure), figure_bytes(figure, form))
    if options.format != "table":
        frame = pl.DataFrame(points, schema=["value", "accounts-in-breach", "breaches"], orient="row")
        write_rows(options, frame, _head(inputs), "curve")
        return CLEAN
    with output_stream(options.output) as stream:
        out = console(stream)
        show_run(out, outcome)
        out.print()
        show_sweep(out, wanted.limit.shown, points, constant_text(present))
        out.print(text(f"rules that use it: {', '.join(rules) or 'none'}", "dim"))
    return CLEAN


def _head(inputs: JudgingInputs) -> dict[str, Any]:
    return {
        "organisation": inputs.organisation,
        "judged-at": inputs.at,
        "against": inputs.rulebook.title,
        "rests-on": inputs.digests,
    }


def _place(limit: Limit) -> float:
    """Where a limit lies on the axis: days of a length of time, else the number."""
    value = getattr(limit, "value", None)
    if isinstance(value, timedelta):
        return value / timedelta(days=1)
    return float(value) if isinstance(value, int | float) else 0.0
