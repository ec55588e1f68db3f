"""What has to be found in the railway in each of its weeks, and what has to change from one to the next.

Both come from what was planted, never from judging: tests hold what the program finds against them.
"""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import NamedTuple

from keymallet.core.history.states import Cause, State
from keymallet.demo import stories
from keymallet.demo.model import Finding, Model, build
from keymallet.demo.onsets import GRACE, Onset, onset
from keymallet.demo.weeks import instant_of


class Turn(NamedTuple):
    """One finding that changes its state in a week."""

    week: int
    rule: str
    account: str
    subject: str
    state: str
    cause: str


@dataclass(frozen=True)
class Truth:
    """`final` is the railway of the last week; `planted` each finding with what it was planted in."""

    final: Model
    planted: list[tuple[Finding, object]]

    def findings(self, week: int, *, pending: bool = True) -> dict[Finding, str]:
        """Each finding of a week with its verdict, by the names of the last week.

        With `pending` those that become a breach soon count.
        """
        limit = stories.password_age(week)
        found = {
            finding: "exempt" if _is_exempt(finding) else "breach"
            for finding, owner in self.planted
            if self._since(finding, owner, limit, pending=pending) <= instant_of(week)
        }
        found |= dict(stories.findings(week, self.final))
        return {finding: verdict for finding, verdict in found.items() if verdict}

    def told(self, week: int) -> dict[Finding, str]:
        """What judging has to find in a week, each by the name its account had then."""
        cloud = week == stories.CLOUD_MISSING
        return {
            _named(finding, week): verdict
            for finding, verdict in self.findings(week).items()
            if not (cloud and stories.rests_on_cloud(finding))
        }

    def _since(self, finding: Finding, owner: object, limit: timedelta, *, pending: bool) -> datetime:
        since = onset(finding, owner, self.final, limit).since
        return since + GRACE if finding[0] == "password-age" and not pending else since

    def _onset(self, finding: Finding, week: int) -> Onset | None:
        """Of a finding that was planted; none of one that a story tells."""
        limit = stories.password_age(week - 1)
        return next(
            (
                onset(finding, owner, self.final, limit)
                for planted, owner in self.planted
                if planted == finding
            ),
            None,
        )

    def turns(self, week: int) -> list[Turn]:
        """What changes its state in a week, against the one before."""
        before = self.findings(week - 1, pending=False)
        now = self.findings(week, pending=False)
        told = []
        for finding in sorted({*before, *now}):
            was, becomes = before.get(finding), now.get(finding)
            state_and_cause = (
                stories.missing_source(finding, week, was)
                or stories.turn(finding, week, self.final)
                or (None if was == becomes else self._by_time_or_facts(finding, week, becomes))
            )
            if state_and_cause:
                state, cause = state_and_cause
                told.append(Turn(week, *_named(finding, week), str(state), str(cause)))
        return told

    def _by_time_or_facts(self, finding: Finding, week: int, becomes: str | None) -> tuple[State, Cause]:
        if becomes is None:
            return State.MENDED, Cause.FACTS
        begins = self._onset(finding, week)
        if begins and begins.needs_only_time and begins.known <= instant_of(week - 1):
            return State.NEW, Cause.TIME
        return State.NEW, Cause.FACTS


def tell_truth() -> Truth:
    """All of it, from the railway of the last week."""
    final = build()
    stories.tell(final)
    return Truth(final, list(final.planted()))


def _named(finding: Finding, week: int) -> Finding:
    rule, account, subject = finding
    return rule, stories.former_name(account, week), subject


def _is_exempt(finding: Finding) -> bool:
    """Whether the register covers it: the tills, and the emergency account that no gate asks."""
    rule, account, _ = finding
    covered = account.startswith("directory/counter-") or account == "directory/emergency-1"
    return rule == "second-factor-asked" and covered
