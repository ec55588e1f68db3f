"""What is longer than the screen goes to the pager; and how the command ends does not depend on it."""

from __future__ import annotations

import os
from pathlib import Path

import pexpect
import pytest

from keymallet.commands.parsers import COMMANDS, PAGED, actions_of, parser_of
from tests import oracles
from tests.conftest import RAILWAY_AT
from tests.support import PROGRAM, run_installed

KEPT = "tee paged.txt > /dev/null"
JUDGE = ("judge", "--at", RAILWAY_AT)
RULES = ("rules", "show", "password-age")


def on_a_terminal(
    folder: Path, *words: str, lines: int = 24, keys: str = "", **environment: str
) -> tuple[str, int | None]:
    """What a terminal of so many lines shows, and how the program ended."""
    # Whoever runs these tests side by side tells its workers of a terminal that is not ours.
    ours = {name: value for name, value in os.environ.items() if name not in ("LINES", "COLUMNS")}
    child = pexpect.spawn(
        str(PROGRAM),
        list(words),
        cwd=folder,
        env={**ours, "TERM": "xterm", **environment},
        encoding="utf-8",
        dimensions=(lines, 100),
        timeout=30,
    )
    shown = ""
    if keys:
        child.expect(":")
        shown = str(child.before)
        child.send(keys)
    child.expect(pexpect.EOF)
    child.close()
    return shown + str(child.before), child.exitstatus


def test_what_is_longer_than_the_screen_is_paged(railway: Path) -> None:
    """All of it, with its colours; the command's own code stays."""
    shown, code = on_a_terminal(railway, *JUDGE, PAGER=KEPT)
    paged = (railway / "paged.txt").read_text()
    assert code == 1
    assert "keymallet judge --format csv" in paged and "\x1b[" in paged and paged.count("\n") > 24
    assert "keymallet judge --format csv" not in shown


def test_the_real_pager_is_left_with_q(railway: Path) -> None:
    oracles.program("less")
    environment = {name: value for name, value in os.environ.items() if name in ("PAGER", "LESS")}
    assert not environment, "these tests need the defaults"
    shown, code = on_a_terminal(railway, *JUDGE, keys="q")
    assert code == 1 and "judged at" in shown and "keymallet judge --format csv" not in shown


@pytest.mark.parametrize("options", ["-S", "S", "FX"])
def test_colours_come_through_whatever_options_it_has(railway: Path, options: str) -> None:
    oracles.program("less")
    shown, code = on_a_terminal(railway, *JUDGE, keys="q", LESS=options)
    assert code == 1 and "ESC" not in shown and "\x1b[1m" in shown


@pytest.mark.parametrize(
    ("words", "lines", "environment"),
    [
        (JUDGE, 200, {"PAGER": KEPT}),
        ((*JUDGE, "--no-pager"), 24, {"PAGER": KEPT}),
        (JUDGE, 24, {"PAGER": KEPT, "TERM": "dumb"}),
        (JUDGE, 24, {"PAGER": ""}),
        (JUDGE, 24, {"PAGER": "cat"}),
        (JUDGE, 24, {"PAGER": "no-such-pager"}),
    ],
    ids=["short", "unwanted", "dumb", "empty", "cat", "not-there"],
)
def test_else_it_is_printed(
    railway: Path, words: tuple[str, ...], lines: int, environment: dict[str, str]
) -> None:
    """What fits, what is not to be paged, and what no pager can be found for."""
    shown, code = on_a_terminal(railway, *words, lines=lines, **environment)
    assert code == 1
    assert not (railway / "paged.txt").exists()
    assert "judged at" in shown and "keymallet judge --format csv" in shown and "Traceback" not in shown


@pytest.mark.parametrize("command", ["true", "head -n 1", "false", "kill -9 $$"])
def test_a_pager_that_goes_away_changes_nothing(railway: Path, command: str) -> None:
    shown, code = on_a_terminal(railway, *JUDGE, PAGER=command)
    assert code == 1 and "Traceback" not in shown and "rror" not in shown


def test_rows_and_actions_are_paged_and_faults_are_not(railway: Path) -> None:
    shown, code = on_a_terminal(railway, "who", "enabled", "--format", "csv", PAGER=KEPT)
    assert code == 0 and (railway / "paged.txt").read_text().count("\n") > 24
    (railway / "paged.txt").unlink()
    shown, code = on_a_terminal(railway, *RULES, lines=4, PAGER=KEPT)
    assert code == 0 and "password" in (railway / "paged.txt").read_text()
    (railway / "paged.txt").unlink()
    shown, code = on_a_terminal(railway, "who", "nonsense", lines=2, PAGER=KEPT)
    assert code == 2 and not (railway / "paged.txt").exists() and "nonsense" in shown


def test_what_is_piped_is_never_paged(railway: Path) -> None:
    done = run_installed(*JUDGE, cwd=railway, expect=1, PAGER=KEPT)
    assert "keymallet judge --format csv" in done.stdout and not (railway / "paged.txt").exists()


@pytest.mark.parametrize("command", COMMANDS)
def test_the_option_stands_where_something_is_paged(command: str) -> None:
    parser = parser_of(command)
    told = [each.format_help() for each in actions_of(parser).values() or [parser]]
    assert all(("--no-pager" in each) == (command in PAGED) for each in told)
