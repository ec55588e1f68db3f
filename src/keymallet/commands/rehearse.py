"""Try another rulebook, or other limits, on the same evidence: who would newly be in breach, who no longer.

Nothing is changed by it. With several --at, the same is counted at later instants, so that a roll-out
can be planned; only time is taken to go on.
"""

from __future__ import annotations

import argparse
import shlex
from collections.abc import Callable
from dataclasses import replace
from datetime import datetime, timedelta
from pathlib import Path
from typing import TYPE_CHECKING, Any

from keymallet.commands.common import (
    JudgingInputs,
    add_estate,
    add_register,
    add_rows_format,
    instant,
    open_case,
    output_stream,
    read_rulebook_file,
    write_file,
    write_rows,
)
from keymallet.commands.main import CLEAN

if TYPE_CHECKING:
    from keymallet.core.judging.judge import Judgement
    from keymallet.core.language.scope import Limit
    from keymallet.core.rulebook.model import Rulebook

EXAMPLES = [
    ("keymallet rehearse --set limit.password-age=90d", "passwords for 90 days instead"),
    (
        "keymallet rehearse --set limit.key-age=60d --set limit.idle=30d --at 2026-11-24 --at 2027-01-01",
        "two limits at once, today and at the new year",
    ),
    (
        "keymallet rehearse --sweep limit.password-age=30d..365d --figure curve.png",
        "the whole curve of one limit",
    ),
]
MOST = 10


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments."""
    parser.add_argument("--rulebook", metavar="FILE", help="the rulebook to try")
    parser.add_argument(
        "--set",
        dest="settings",
        metavar="limit.NAME=VALUE",
        action="append",
        default=[],
        help="a limit to try (repeatable)",
    )
    parser.add_argument(
        "--sweep",
        metavar="limit.NAME=FROM..TO",
        help="count the accounts in breach for one limit after another (/STEP)",
    )
    parser.add_argument("--against", metavar="FILE", help="the rulebook in force (default: the estate's)")
    parser.add_argument(
        "--at",
        metavar="INSTANT",
        action="append",
        default=[],
        help="judge as of this instant; more of them: later ones too",
    )
    parser.add_argument(
        "--snapshot", metavar="FOLDER", help="judge this snapshot (default: the estate's newest)"
    )
    add_register(parser)
    add_rows_format(parser)
    parser.add_argument("--figure", metavar="FILE", help="with --sweep: draw the curve, a .png or .svg file")
    add_estate(parser)


def run(options: argparse.Namespace) -> int:
    """Judge by both books and compare. Raises KeymalletError if the request cannot be carried out."""
    from keymallet.core.base.problems import fail

    if not (options.rulebook or options.settings or options.sweep):
        raise fail("nothing to rehearse", hint="name a --rulebook, or --set limit.NAME=VALUE, or --sweep")
    if options.figure and not options.sweep:
        raise fail("--figure draws the curve of a --sweep", hint="add --sweep limit.NAME=FROM..TO")
    case = open_case(
        argparse.Namespace(
            estate=options.estate,
            snapshot=options.snapshot,
            rulebook=options.against,
            register=options.register,
            at=next(iter(options.at), None),
        )
    )
    base = read_rulebook_file(Path(options.rulebook)) if options.rulebook else case.rulebook
    settings = dict(_setting(written) for written in options.settings)
    book = _with_limits(base, settings) if settings else base
    if options.sweep:
        return _sweep(options, case, base, settings)
    return _compare(options, case, book)


def _setting(written: str) -> tuple[str, str]:
    from keymallet.core.base.problems import fail

    name, equals, value = written.partition("=")
    if not name.startswith("limit.") or not equals or not value:
        raise fail(f'--set "{written}" sets no limit', hint="like --set limit.password-age=90d")
    return name.removeprefix("limit."), value


def _with_limits(book: Rulebook, settings: dict[str, str]) -> Rulebook:
    """The book with other limits. Raises KeymalletError if it has no such limit, or a value does not fit."""
    from keymallet.core.base.nearest import did_you_mean
    from keymallet.core.base.problems import fail
    from keymallet.core.rulebook.reading import read_rulebook
    from keymallet.core.studies.rehearse import overlay
    from keymallet.sources.rulebooks import open_included

    for name in settings:
        if name not in book.limits:
            hint = did_you_mean(name, book.limits) or f"there are: {', '.join(sorted(book.limits))}"
            raise fail(f'the rulebook has no limit "{name}"', hint=hint)
    found = read_rulebook(overlay(book.title, book.files[0], settings), "--set", open_included)
    return replace(found, edition=book.edition)


def _compare(options: argparse.Namespace, case: JudgingInputs, book: Rulebook) -> int:
    from keymallet.core.base.listing import how_many
    from keymallet.core.studies.rehearse import accounts_in_breach, changed_rows, differences
    from keymallet.views.rehearse import show_differences, show_first, show_groups, show_instants
    from keymallet.views.summary import show_hints, show_run
    from keymallet.views.terminal import console, text

    judged = _judging(case, case.rulebook, book)
    before, after = judged(case.rulebook, case.at), judged(book, case.at)
    rows = changed_rows(before, after)
    if options.format != "table":
        write_rows(options, rows, _head(case), "changes")
        return CLEAN
    numbers = {case.at: (accounts_in_breach(before), accounts_in_breach(after))}
    for at in (instant(written, case.clock) for written in options.at[1:]):
        numbers[at] = (accounts_in_breach(judged(case.rulebook, at)), accounts_in_breach(judged(book, at)))
    with output_stream(options.output) as stream:
        out = console(stream)
        show_run(out, case.run(after))
        out.print()
        show_differences(out, differences(before, after))
        if rows.height:
            out.print()
            show_groups(out, rows)
            out.print()
            out.print(text("newly in breach", "dim"))
            show_first(out, rows, MOST)
        if len(numbers) > 1:
            out.print()
            show_instants(out, [(at, *numbers[at]) for at in sorted(numbers)], case.clock)
        out.print()
        now, then = numbers[case.at]
        out.print(text(f"{how_many(then, 'account')} would be in breach, where {now:,} are now.", "bold"))
        show_hints(out, [(f"{_said(options)} --format csv --output changes.csv", "every change")])
    return CLEAN


def _said(options: argparse.Namespace) -> str:
    """The command as it was given, as far as it says what is rehearsed."""
    words = ["--rulebook", options.rulebook] if options.rulebook else []
    words += [word for setting in options.settings for word in ("--set", setting)]
    words += [word for at in options.at[:1] for word in ("--at", at)]
    return shlex.join(["keymallet", "rehearse", *words])


def _judging(case: JudgingInputs, *books: Rulebook) -> Callable[[Rulebook, datetime], Judgement]:
    """Judges by any of these books at any instant, on evidence that is read once."""
    evidence = case.evidence((each for book in books for each in book.expressions()), also=("kind",))
    return lambda book, at: case.judge(evidence, book, at)


def _sweep(options: argparse.Namespace, case: JudgingInputs, base: Rulebook, settings: dict[str, str]) -> int:
    from keymallet.core.base.problems import fail
    from keymallet.core.explaining.wording import constant_text
    from keymallet.core.studies.rehearse import accounts_in_breach, read_sweep, rules_with_limit
    from keymallet.views.figures import figure_bytes, format_of
    from keymallet.views.rehearse import show_sweep, sweep_figure
    from keymallet.views.summary import show_run
    from keymallet.views.terminal import console, text

    wanted = read_sweep(options.sweep)
    if wanted is None:
        raise fail(
            f'--sweep "{options.sweep}" is no stretch of a limit', hint="like limit.password-age=30d..365d"
        )
    tried = [_with_limits(base, settings | {wanted.limit: str(value)}) for value in wanted.values]
    rules = rules_with_limit(tried[0], wanted.limit)
    judged = _judging(case, case.rulebook, base)
    limits = [book.limits[wanted.limit] for book in tried]
    tried = [book.only(lambda rule: rule.id in rules) for book in tried]
    numbers = [accounts_in_breach(judged(book, case.at)) for book in tried]
    points = list(zip(map(constant_text, limits), numbers, strict=True))
    present = base.limits[wanted.limit]
    outcome = case.run(judged(case.rulebook, case.at))
    if options.figure:
        form = format_of(options.figure)
        unit = "days" if isinstance(getattr(present, "value", None), timedelta) else ""
        places = [_place(limit) for limit in limits]
        figure = sweep_figure(wanted.limit, points, places, _place(present), unit, outcome)
        write_file(Path(options.figure), figure_bytes(figure, form))
    if options.format != "table":
        import polars as pl

        frame = pl.DataFrame(points, schema=["value", "accounts-in-breach"], orient="row")
        write_rows(options, frame, _head(case), "curve")
        return CLEAN
    with output_stream(options.output) as stream:
        out = console(stream)
        show_run(out, outcome)
        out.print()
        show_sweep(out, wanted.limit, points, constant_text(present))
        out.print(text(f"rules that use it: {', '.join(rules) or 'none'}", "dim"))
    return CLEAN


def _head(case: JudgingInputs) -> dict[str, Any]:
    return {"organisation": case.organisation, "judged-at": case.at, "against": case.rulebook.title}


def _place(limit: Limit) -> float:
    """Where a limit lies on the axis: days of a length of time, else the number."""
    value = getattr(limit, "value", None)
    if isinstance(value, timedelta):
        return value / timedelta(days=1)
    return float(value) if isinstance(value, int | float) else 0.0
