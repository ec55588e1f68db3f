"""What changed from one run to the next, as people look at it."""

from __future__ import annotations

from collections.abc import Sequence
from zoneinfo import ZoneInfo

from rich.console import Console
from rich.text import Text

from keymallet.core.base.listing import how_many
from keymallet.core.history.states import ENDS, State
from keymallet.store.logbook.records import RunLine
from keymallet.views.terminal import moment, text

SHORT = 12
STATE_STYLES = {
    State.NEW: "red",
    State.BACK: "red",
    State.LATE: "bold red",
    State.EXEMPTION_ENDED: "red",
    State.NOT_SEEN: "yellow",
    State.EXEMPT: "blue",
    State.MENDED: "green",
    State.ENDED_BY_TIME: "green",
    State.ACCOUNT_GONE: "green",
}
PAST_DUE = "past due"
_SUMMED = (State.NEW, State.BACK, State.EXEMPTION_ENDED, State.NOT_SEEN, State.MENDED)
ENDED_OTHERWISE = tuple(state for state in ENDS if state is not State.MENDED)


def show_since_last(
    out: Console, run: RunLine | None, before: RunLine | None, failed: Sequence[RunLine], clock: ZoneInfo
) -> None:
    """Print how a run differs from the one before it, and what it is called in the logbook."""
    if run is None:
        return
    out.print()
    show_failed(out, failed, clock)
    if before is None:
        broken = run.states.get(State.NEW, 0)
        said = text(f"the first run in the logbook: {how_many(broken, 'finding')} in breach, all new")
    else:
        ahead = ", which lies after this one," if before.judged_at > run.judged_at else ""
        said = text(f"since the run of {moment(before.judged_at, clock)}{ahead}: ".replace(",:", ":"))
        said.append_text(Text(", ").join(sums(run.states)))
    late = run.states.get(PAST_DUE, 0)
    if late:
        said.append(", ").append(f"{late:,} past their due date", STATE_STYLES[State.LATE])
    out.print(said)
    out.print(text(f"logbook: run {run.number}, head {run.head[:SHORT]}", "dim"))
    out.print()


def sums(states: dict[str, int]) -> list[Text]:
    """The numbers that tell what changed: new, back, exemption ended, not seen, mended, ended otherwise."""
    said = []
    for state in _SUMMED:
        number = states.get(state, 0)
        if number or state in (State.NEW, State.MENDED):
            said.append(Text(f"{number:,} {state}", STATE_STYLES[state] if number else ""))
    ended = sum(states.get(state, 0) for state in ENDED_OTHERWISE)
    if ended:
        said.append(Text(f"{ended:,} ended otherwise"))
    return said


def show_failed(out: Console, failed: Sequence[RunLine], clock: ZoneInfo) -> None:
    """Print which runs came to no verdicts, and why."""
    for line in failed:
        out.print(text(f"the run of {moment(line.ran_at, clock)} failed: {line.failed}", "yellow"))
