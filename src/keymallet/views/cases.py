"""How the cases of a rulebook came out, and what they leave untried."""

from __future__ import annotations

from rich.console import Console
from rich.padding import Padding

from keymallet.core.base.listing import and_more, how_many
from keymallet.core.rulebook.model import Demand, Rulebook
from keymallet.core.studies.cases import Outcome
from keymallet.core.studies.coverage import Untried
from keymallet.views.terminal import text

MOST_LEFT = 24


def show_failures(out: Console, file: str, failed: list[Outcome]) -> None:
    """Print each case that came out otherwise, with its place and why."""
    for outcome in failed:
        case = outcome.case
        named = f": {case.name}" if case.name else ""
        out.print(text(f"FAILED  {file}:{case.line}  {case.rule}{named}", "red"))
        out.print(Padding(text(outcome.wrong), (0, 0, 1, 8)))


def show_coverage(out: Console, without: list[Demand], left: list[Untried]) -> None:
    """Print the rules without a breaching case, and the comparisons that were never seen true, or false."""
    for demand in without:
        out.print(text(f"no breaching case: {demand.id}", "yellow"))
    if left:
        out.print(text("comparisons that no case has seen both true and false:", "dim"))
    for comparison in left[:MOST_LEFT]:
        out.print(
            text(
                f"never seen {str(comparison.never).lower():5}  {comparison.where}: {comparison.text}",
                "yellow",
            )
        )
    if len(left) > MOST_LEFT:
        out.print(text(f"{and_more(len(left) - MOST_LEFT, 'comparison')} left untried (--rule ID)", "yellow"))


def show_tried(out: Console, book: Rulebook, outcomes: list[Outcome], failed: list[Outcome]) -> None:
    """Print what it came to."""
    rules = len({outcome.case.rule for outcome in outcomes})
    shown_outcome = f"{how_many(len(outcomes), 'case')} of {rules} of {how_many(len(book.demands), 'rule')}: "
    shown_outcome += f"{len(failed):,} failed" if failed else "all as expected"
    out.print(text(shown_outcome, "bold red" if failed else "bold green"))
