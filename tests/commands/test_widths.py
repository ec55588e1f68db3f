"""At any width from 60 columns: no number is cut, no line is too long, a command can be copied whole."""

from __future__ import annotations

import json
import re
from io import StringIO
from pathlib import Path

import pytest
from rich.console import Console
from rich.text import Text

from keymallet.views.plain_table import PlainTable
from tests.commands.test_railway import AT
from tests.profiles import PROFILE, first
from tests.support import run

COMMANDS = (
    "judge", "judge --all", "show directory/emergency-2", "show directory/emergency-2 --all", "view factors", "view factors --by unit --all",
    "view passwords --all", "view lockouts --all", "view exemptions --all", "view elevation --all", "view temporary --all",
    "ahead --capacity 40/week --spread", "rehearse --set limit.password-age=90d", "rehearse --sweep limit.password-age=30d..365d/60d",
    "who privileged --columns last-sign-in,failed-attempts,unit", "exempt list", "rules show", "rules check", "rules compare rulebook.toml base", "read --dry-run",
    "dictionary account", "fit exports/accounts.csv",
)  # fmt: skip
NUMBER = re.compile(r"\d[\d,.:]*\d|\d")


def numbers(text: str) -> list[str]:
    """Every figure, date and time, in order of size; words and names may wrap, figures may not."""
    return sorted(NUMBER.findall(text))


@pytest.mark.parametrize("command", first(12, COMMANDS))
def test_no_number_is_cut_at_any_width(railway_snapshot: Path, command: str) -> None:
    """What stands in the widest output stands in the narrow ones too, whole."""
    words = command.split()
    at = () if words[0] in ("rules", "read", "dictionary", "fit") else AT

    def shown(width: int) -> str:
        return run(*words, *at, cwd=railway_snapshot, COLUMNS=str(width)).stdout

    wide = shown(200)
    assert "…" not in wide.replace("…'", "")
    whole = {figure for figure in numbers(wide) if len(figure) < 11}
    for width in (60, 80, 100) if PROFILE == "deep" else (60, 80) if command == "judge --all" else (60,):
        narrow = shown(width)
        assert "…" not in narrow.replace("…'", ""), width
        # A name may wrap in the middle of a figure that is part of it: only figures that stand alone count.
        alone = {
            figure for figure in whole if re.search(rf"(?<![\w.@/-]){re.escape(figure)}(?![\w.@/-])", wide)
        }
        missing = alone - set(numbers(narrow))
        assert not missing, (width, missing)
        for line in narrow.splitlines():
            assert len(line) <= width or line.startswith("keymallet "), (width, line)


@pytest.mark.deep
def test_judge_tells_every_number_of_the_data(railway_snapshot: Path) -> None:
    """Rule by rule, in any width: as many breaches as the findings have."""
    told = json.loads(run("judge", *AT, "--format", "json", cwd=railway_snapshot).stdout)
    for width in ("60", "80", "200"):
        shown = run("judge", *AT, "--all", cwd=railway_snapshot, COLUMNS=width).stdout
        for rule in told["rules"]:
            row = [rule[name] for name in ("in-scope", "met", "breach")]
            table, block = r"\s+", r"[^\d\n]*\n?[^\d\n]*"
            figures = [f"{number:,}" if number else "[·0]" for number in row]
            in_block = block.join(f"{number:,}" for number in row if number)
            assert re.search(f"{table.join(figures)}|{in_block}", shown), (width, rule)


def rendered(table: PlainTable, width: int) -> list[str]:
    """The lines of a table on a terminal of this width."""
    out = Console(width=width, record=True, file=StringIO())
    out.print(table)
    return [line.rstrip() for line in out.export_text().splitlines()]


def test_a_table_gives_way_bars_first_then_becomes_blocks() -> None:
    """Each number is there whole in all three; a cell that says nothing is left out of a block."""
    table = PlainTable()
    table.add_column("rule", overflow="fold")
    table.add_column("in\nscope", justify="right", no_wrap=True)
    table.add_column("breach", justify="right", no_wrap=True)
    table.add_bar("█ breach", 16)
    table.add_row("password-age", "1,234,567", Text("144"), "████")
    table.add_row("idle", "12", "·", "")
    whole, bare, blocks = (rendered(table, width) for width in (60, 40, 24))
    assert whole[-2] == "password-age  1,234,567     144  ████"
    assert bare[-2:] == ["password-age  1,234,567     144", "idle                 12       ·"]
    assert blocks == ["password-age", "    in scope 1,234,567 ·", "    breach 144", "idle", "    in scope 12"]
