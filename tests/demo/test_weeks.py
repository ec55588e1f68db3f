"""The railway's four weeks against what was planted in them: each week's findings, and every change."""

from __future__ import annotations

import csv
import io
from pathlib import Path

import pytest

from keymallet.demo.truth import tell_truth
from keymallet.demo.weeks import LAST, instant_of
from tests.support import run

WEEKS = range(1, LAST + 1)


def rows(folder: Path, *words: str) -> list[dict[str, str]]:
    done = run(*words, "--format", "csv", cwd=folder)
    assert done.returncode in (0, 1), done.stderr
    return list(csv.DictReader(io.StringIO(done.stdout, newline="")))


@pytest.mark.parametrize("week", WEEKS)
def test_each_week_has_what_was_planted_and_nothing_else(four_weeks: Path, week: int) -> None:
    """Judged by the rulebook and the register as they were in that week."""
    truth = tell_truth()
    pending = truth.findings(week).keys() - truth.findings(week, pending=False).keys()
    planted = {(*finding, verdict) for finding, verdict in truth.told(week).items() if finding not in pending}
    kept = rows(four_weeks / "there", "findings", "--run", str(week))
    found = {
        (row["rule"], row["account"], row["subject"], "exempt" if row["state"] == "exempt" else "breach")
        for row in kept
        if row["state"] != "not seen"
    }
    assert found - planted == set()
    assert planted - found == set()


@pytest.mark.parametrize("week", WEEKS[1:])
def test_each_change_is_planted_with_its_state_and_cause(four_weeks: Path, week: int) -> None:
    """Both ways: what the logbook tells of two runs, and the ground truth that the demo ships."""
    there = four_weeks / "there"
    day = f"{instant_of(week):%Y-%m-%d}"
    with (there / "ground-truth-changes.csv").open(encoding="utf-8", newline="") as file:
        planted = {tuple(row.values())[1:] for row in csv.DictReader(file) if row["day"] == day}
    told = rows(there, "changes", "--from", str(week - 1), "--to", str(week))
    found = {tuple(row[name] for name in ("rule", "account", "subject", "state", "cause")) for row in told}
    assert len(told) == len(found)
    assert found - planted == set()
    assert planted - found == set()


def test_the_weeks_have_every_kind_of_change(four_weeks: Path) -> None:
    """People who join, leave and are renamed; a source that was not read; a key, a limit, an exemption."""
    there = four_weeks / "there"
    truth = tell_truth()
    states = {turn.state for week in WEEKS[1:] for turn in truth.turns(week)}
    causes = {turn.cause for week in WEEKS[1:] for turn in truth.turns(week)}
    assert {"new", "open", "back", "mended", "not seen", "exemption ended", "account gone"} <= states
    assert {"time alone", "rulebook", "register", "facts", "source not read", "facts unknown"} <= causes
    third = run("changes", "--from", "2", "--to", "3", "--all", cwd=there).stdout
    assert "directory/h.moosegger → directory/h.nebelacher" in third
    late = run("findings", "--late", cwd=there).stdout
    assert "past due" in late and "critical  late" in late
