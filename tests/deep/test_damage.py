"""The railway's files, damaged at random: the program reads what can be read, refuses the rest, and never breaks."""

from __future__ import annotations

import random
from pathlib import Path

import pytest

from tests.conftest import RAILWAY_AT
from tests.support import run

COMMANDS = ("read", "judge", "view factors", "view elevation", "view temporary", "ahead", "show root")


def damaged(data: bytes, chance: random.Random) -> bytes:
    """The bytes with one thing wrong: some changed, lines lost, doubled or swapped, or the end cut off."""
    place = chance.randrange(len(data) + 1)
    lines = data.split(b"\n")
    line = chance.randrange(len(lines))
    match chance.randrange(6):
        case 0:
            return data[:place]
        case 1:
            return data[:place] + chance.randbytes(chance.randrange(1, 9)) + data[place + 3 :]
        case 2:
            return b"\n".join(lines[:line] + lines[line + 1 :])
        case 3:
            return b"\n".join([*lines[:line], lines[line], *lines[line:]])
        case 4:
            chance.shuffle(lines)
            return b"\n".join(lines)
        case _:
            return (
                data[:place] + chance.choice([b'"', b";", b"{", b"\x00", b"\xff\xfe", b"\r"]) + data[place:]
            )


@pytest.mark.deep
@pytest.mark.parametrize("seed", range(40))
def test_whatever_is_wrong_is_said(railway: Path, seed: int) -> None:
    """Every command ends with one of its codes; `run` fails on a traceback."""
    chance = random.Random(seed)
    files = sorted(
        path for path in (*railway.glob("exports/*"), *railway.glob("hosts/**/*")) if path.is_file()
    )
    for path in chance.sample(files, chance.randrange(1, 4)):
        path.write_bytes(damaged(path.read_bytes(), chance))
    for command in COMMANDS:
        done = run(*command.split(), "--at", RAILWAY_AT, cwd=railway)
        assert done.returncode in (0, 1, 2, 3), f"{command}: {done.stderr}"
        assert done.returncode != 2 or done.stderr.strip(), command
