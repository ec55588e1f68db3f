"""Try another rulebook, or other limits, on the same evidence: who would newly be in breach, who no longer.

Nothing is changed by it. With several --at, the same is counted at later instants, so that a roll-out
can be planned; only time is taken to go on.
"""

from __future__ import annotations

import argparse
import shlex
from dataclasses import replace
from datetime import timedelta
from pathlib import Path
from typing import TYPE_CHECKING, Any

from keymallet.commands.common import (
    Case,
    add_estate,
    add_rows_format,
    instant,
    open_case,
    output_stream,
    write_file,
    write_rows,
)
from keymallet.commands.main import CLEAN

if TYPE_CHECKING:
    from keymallet.core.judge import Judgement
    from keymallet.core.language.scope import Limit
    from keymallet.core.rulebook import Rulebook

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
    add_rows_format(parser)
    parser.add_argument("--figure", metavar="FILE", help="with --sweep: draw the curve, a .png or .svg file")
    add_estate(parser)


def run(options: argparse.Namespace) -> int:
    """Judge by both books and compare. Raises KeymalletError if the request cannot be carried out."""
    from keymallet.core.problems import fail

    if not (options.rulebook or options.settings or options.sweep):
        raise fail("nothing to rehearse", hint="name a --rulebook, or --set limit.NAME=VALUE, or --sweep")
    if options.figure and not options.sweep:
        raise fail("--figure draws the curve of a --sweep", hint="add --sweep limit.NAME=FROM..TO")
    case = _present(options)
    book = _book_to_try(options, case.rulebook)
    if options.sweep:
        return _sweep(options, case, book)
    return _compare(options, case, book)


def _present(options: argparse.Namespace) -> Case:
    """The case as it is: the rulebook in force, at the first of the instants."""
    first = min(options.at) if len(options.at) > 1 else next(iter(options.at), None)
    return open_case(
        argparse.Namespace(
            estate=options.estate, snapshot=options.snapshot, rulebook=options.against, at=first
        )
    )


def _book_to_try(options: argparse.Namespace, present: Rulebook) -> Rulebook:
    from keymallet.commands.common import read_rulebook_file
    from keymallet.core.problems import fail

    book = read_rulebook_file(Path(options.rulebook)) if options.rulebook else present
    if not options.settings:
        return book
    settings = {}
    for written in options.settings:
        name, equals, value = written.partition("=")
        if not name.startswith("limit.") or not equals or not value:
            raise fail(f'--set "{written}" sets no limit', hint="like --set limit.password-age=90d")
        settings[name.removeprefix("limit.")] = value
    return _with_limits(book, settings)


def _with_limits(book: Rulebook, settings: dict[str, str]) -> Rulebook:
    """The book with other limits. Raises KeymalletError if it has no such limit, or a value does not fit."""
    from keymallet.core.nearest import did_you_mean
    from keymallet.core.problems import fail
    from keymallet.core.rehearse import overlay
    from keymallet.core.rulebook_text import read_rulebook
    from keymallet.sources.rulebooks import open_included

    for name in settings:
        if name not in book.limits:
            hint = did_you_mean(name, book.limits) or f"there are: {', '.join(sorted(book.limits))}"
            raise fail(f'the rulebook has no limit "{name}"', hint=hint)
    text = overlay(
        book.title,
        Path(book.files[0]).resolve().as_posix() if Path(book.files[0]).exists() else book.files[0],
        settings,
    )
    found = read_rulebook(text, "--set", open_included)
    return replace(found, edition=book.edition)


def _compare(options: argparse.Namespace, case: Case, book: Rulebook) -> int:
    from keymallet.core.rehearse import accounts_in_breach, changed_rows, differences
    from keymallet.views.rehearse import show_differences, show_first, show_groups, show_instants
    from keymallet.views.summary import show_hints, show_run
    from keymallet.views.terminal import console, count, text

    before, after = _judged(case, case.rulebook, book), _judged(case, book, case.rulebook)
    rows = changed_rows(before, after)
    if options.format != "table":
        write_rows(options, rows, _head(case), "changes")
        return CLEAN
    later = sorted({instant(written, case.clock) for written in options.at})
    counted = []
    for at in later if len(later) > 1 else []:
        then = replace(case, at=at)
        pair = (_judged(then, case.rulebook, book), _judged(then, book, case.rulebook))
        counted.append((at, accounts_in_breach(pair[0]), accounts_in_breach(pair[1])))
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
        if counted:
            out.print()
            show_instants(out, counted, case.clock)
        out.print()
        numbers = accounts_in_breach(before), accounts_in_breach(after)
        out.print(
            text(f"{count(numbers[1], 'account')} would be in breach, where {numbers[0]:,} are now.", "bold")
        )
        show_hints(out, [(f"{_said(options)} --format csv --output changes.csv", "every change")])
    return CLEAN


def _said(options: argparse.Namespace) -> str:
    """The command as it was given, as far as it says what is rehearsed."""
    words = ["--rulebook", options.rulebook] if options.rulebook else []
    words += [word for setting in options.settings for word in ("--set", setting)]
    words += [word for at in options.at[:1] for word in ("--at", at)]
    return shlex.join(["keymallet", "rehearse", *words])


def _judged(case: Case, book: Rulebook, other: Rulebook) -> Judgement:
    from keymallet.core.judge import judge
    from keymallet.core.workspace import columns_used

    used = columns_used([*book.expressions(), *other.expressions()])
    used.setdefault("account", set()).add("kind")
    return judge(case.snapshot.evidence(used), book, case.at, case.clock)


def _sweep(options: argparse.Namespace, case: Case, book: Rulebook) -> int:
    from keymallet.core.problems import fail
    from keymallet.core.rehearse import accounts_in_breach, read_sweep, rules_with_limit
    from keymallet.core.wording import constant
    from keymallet.views.figures import figure_bytes, format_of
    from keymallet.views.rehearse import show_sweep, sweep_figure
    from keymallet.views.summary import show_run
    from keymallet.views.terminal import console, text

    wanted = read_sweep(options.sweep)
    if wanted is None:
        raise fail(
            f'--sweep "{options.sweep}" is no stretch of a limit', hint="like limit.password-age=30d..365d"
        )
    points, rules = [], []
    for value in wanted.values:
        tried = _with_limits(book, {wanted.limit: str(value)})
        rules = [rule.id for rule in rules_with_limit(tried, wanted.limit)]
        tried = replace(tried, rules=rules_with_limit(tried, wanted.limit), tallies=())
        points.append((constant(tried.limits[wanted.limit]), accounts_in_breach(_judged(case, tried, tried))))
    present = book.limits[wanted.limit]
    judgement = _judged(case, case.rulebook, case.rulebook)
    outcome = case.run(judgement)
    if options.figure:
        form = format_of(options.figure)
        places = [
            _place(_with_limits(book, {wanted.limit: str(each)}).limits[wanted.limit])
            for each in wanted.values
        ]
        unit = "days" if isinstance(getattr(present, "value", None), timedelta) else ""
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
        show_sweep(out, wanted.limit, points, constant(present))
        used = ", ".join(rules) if rules else "no rule uses it"
        out.print(text(f"rules that use it: {used}", "dim"))
    return CLEAN


def _head(case: Case) -> dict[str, Any]:
    return {"organisation": case.organisation, "judged-at": case.at, "against": case.rulebook.title}


def _place(limit: Limit) -> float:
    """Where a limit lies on the axis: days of a length of time, else the number."""
    value = getattr(limit, "value", None)
    if isinstance(value, timedelta):
        return value / timedelta(days=1)
    return float(value) if isinstance(value, int | float) else 0.0
