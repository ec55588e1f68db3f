"""Commands that write, killed at any moment: what was there is there, whole, and the next command works."""

from __future__ import annotations

import random
import subprocess
import time
from pathlib import Path

import pytest

from keymallet.core.language.clocks import ZoneInfo
from keymallet.core.rulebook.register import read_register
from tests.conftest import RAILWAY_AT
from tests.support import PROGRAM, newest, run

AT = ("--at", RAILWAY_AT)
WHY = "Tills are opened by staff card; their passwords are never typed."
BY = ("--asked-by", "ticketing", "--approved-by", "information security")
KILLS = 20
"""So many for each command: two hundred in all."""
COMMANDS: dict[str, tuple[str, ...]] = {
    "read": ("read", *AT),
    "read one": ("read", "--only", "staff", *AT),
    "judge to a file": ("judge", *AT, "--format", "csv", "--output", "out.csv"),
    "judge to JSON": ("judge", *AT, "--format", "json", "--output", "out.csv"),
    "view to a file": ("view", "passwords", *AT, "--format", "csv", "--output", "out.csv"),
    "a figure": ("view", "lockouts", *AT, "--figure", "out.png"),
    "a calendar": ("ahead", *AT, "--calendar", "out.ics"),
    "add": ("exempt", "add", "tills-N", "--kind", "technical", "--account", "directory/counter-*", "--rule", "password-age",
            "--reason", WHY, *BY, "--until", "2027-03-01", *AT),
    "review": ("exempt", "review", "counter-tills", "--approved-by", "information security", *AT),
    "end": ("exempt", "end", "counter-tills", "--on", "2026-12-N", *AT),
}  # fmt: skip


@pytest.mark.deep
@pytest.mark.parametrize("name", COMMANDS)
def test_a_kill_leaves_everything_whole(railway_snapshot: Path, tmp_path: Path, name: str) -> None:
    """Files are the old ones or the new ones; the newest snapshot is one that can be judged."""
    folder = tmp_path / "railway"
    subprocess.run(["cp", "-r", str(railway_snapshot), str(folder)], check=True)
    start = time.monotonic()
    subprocess.run([str(PROGRAM), *COMMANDS[name]], cwd=folder, capture_output=True, check=False)
    whole = time.monotonic() - start
    chance = random.Random(name)
    sizes = {len(file.read_bytes()) for file in folder.glob("out.*")}
    for kill in range(KILLS):
        register = (folder / "exemptions.toml").read_text("utf-8")
        words = [word.replace("N", f"{kill + 2:02}") for word in COMMANDS[name]]
        running = subprocess.Popen(
            [str(PROGRAM), *words], cwd=folder, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
        )
        time.sleep(chance.uniform(0.1, 1.05) * whole)
        running.kill()
        running.wait()
        newest(folder).evidence()
        after = (folder / "exemptions.toml").read_text("utf-8")
        read_register(after, "exemptions.toml", ZoneInfo("Europe/Zurich"))
        assert after == register or name in ("add", "review", "end")
        assert {len(file.read_bytes()) for file in folder.glob("out.*")} <= sizes | {0} - (
            {0} if sizes else set()
        )
    assert run("judge", *AT, cwd=folder).returncode == 1
    if name.startswith("read"):
        run(*COMMANDS[name], cwd=folder)
        assert "did not end" not in run("judge", *AT, cwd=folder).stdout
