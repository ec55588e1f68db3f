"""What bash, zsh and fish make of a Tab: driven in the real shells, on an estate with hostile names."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
import time
from pathlib import Path

import pexpect
import pytest

from keymallet.commands.arguments.view import TOPICS as OFFERED_TOPICS
from keymallet.commands.parsers import COMMANDS, parser_of_all
from keymallet.completing import offers
from keymallet.core.topics.registry import TOPICS
from keymallet.store.known_names import FEW, FILE, MOST_OFFERED, names_with
from tests import oracles
from tests.profiles import first
from tests.support import PROGRAM, run

HOSTILE = {
    "b": "blank and blank",
    "c": "c$(touch owned)",
    "d": "d`touch owned`",
    "e": "e;touch owned",
    "f": "f'quote\"quote",
    "g": "g*?[a]{b,c}",
    "h": "h#no~comment!h",
    "i": "i&|<>owned",
    "k": "kölner=x:y@z",
    "l": "l\\back\\slash",
}
"""A name for each beginning: whatever stands in it, the shell hands on the name and nothing else."""
SHELLS = {
    "bash": ("--norc", "--noprofile", "-i"),
    "zsh": ("-f", "-i"),
    "fish": ("--no-config", "-i"),
}
HOOK = {
    "bash": 'eval "$(keymallet completion bash)"',
    "zsh": 'autoload -Uz compinit; compinit -u -D; eval "$(keymallet completion zsh)"',
    "fish": "keymallet completion fish | source",
}


@pytest.fixture(scope="module")
def estate(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Accounts with hostile names, and with plain ones, read once."""
    folder = tmp_path_factory.mktemp("completion")
    names = [*HOSTILE.values(), "o.varga", "o.varnai", "bell\x07bell"]
    quoted = [f'"{name.replace(chr(34), 2 * chr(34))}"' for name in names]
    rows = [f"{name},Olga {number} Person" for number, name in enumerate(quoted)]
    (folder / "accounts.csv").write_text("login,full\n" + "\n".join(rows) + "\n")
    (folder / "map.toml").write_text('[account.columns]\nname = "login"\ndisplay = "full"\n')
    (folder / "rulebook.toml").write_text(
        'title = "Ours"\ninclude = ["base"]\n[limits]\nteapot-age = "9d"\n'
        '[rule.teapots]\ntitle = "t"\nwho = "yes"\nmust = "enabled"\nseverity = "low"\n'
    )
    (folder / "register.toml").write_text("[exemption.kettle]\n")
    (folder / "estate.toml").write_text(
        'organisation = "Tea"\nclock = "UTC"\nrulebook = "rulebook.toml"\nregister = "register.toml"\n'
        '[source.crew]\nread = "csv"\nmap = "map.toml"\nfiles = { account = "accounts.csv" }\n'
    )
    (folder / "argv").write_text(
        f"#!{sys.executable}\nimport json, sys\nopen('typed.part', 'w').write(json.dumps(sys.argv[1:]))\nimport os; os.replace('typed.part', 'typed.json')\n"
    )
    (folder / "argv").chmod(0o755)
    assert "snapshot" in run("read", cwd=folder).stdout
    return folder


def typed(shell: str, folder: Path, lines: list[str]) -> list[list[str]]:
    """The words that each of these lines comes to when a Tab is pressed behind it."""
    child = pexpect.spawn(
        oracles.program(shell),
        list(SHELLS[shell]),
        cwd=folder,
        env={
            **os.environ,
            "PATH": f"{PROGRAM.parent}:{os.environ['PATH']}",
            "TERM": "xterm",
            "LC_ALL": "C.UTF-8",
            "HOME": str(folder),
            "XDG_CONFIG_HOME": str(folder / "config"),
        },
        encoding="utf-8",
        dimensions=(40, 200),
        timeout=20,
    )
    told = []
    try:
        child.sendline(f"{HOOK[shell]}; echo re''ady")
        child.expect("ready\r?\n")
        for line in lines:
            (folder / "typed.json").unlink(missing_ok=True)
            child.send(line)
            _settle(child)
            child.send("\t")
            _settle(child, first=5.0, then=0.3)
            # To the beginning of the line: what was completed becomes the words of a program that tells them.
            child.send("\x01./argv \x05\r")
            until = time.monotonic() + 10
            while not (folder / "typed.json").exists() and time.monotonic() < until:
                time.sleep(0.02)
            _settle(child)
            told.append(json.loads((folder / "typed.json").read_text())[1:])
    finally:
        child.close(force=True)
    return told


def _settle(child: pexpect.spawn[str], first: float = 0.3, then: float = 0.15) -> None:
    """Read what the shell prints until it has been quiet for a while; at first wait longer."""
    try:
        child.read_nonblocking(4096, timeout=first)
        while True:
            child.read_nonblocking(4096, timeout=then)
    except (pexpect.TIMEOUT, pexpect.EOF):
        return


LINES = {
    "keymallet dict": ["dictionary"],
    "keymallet judge --sprea": ["judge", "--spreadsheet"],
    "keymallet view facto": ["view", "factors"],
    "keymallet rules show teap": ["rules", "show", "teapots"],
    "keymallet exempt end ket": ["exempt", "end", "kettle"],
    "keymallet rehearse --set limit.teap": ["rehearse", "--set", "limit.teapot-age="],
    "keymallet judge --rulebook nist-800-6": ["judge", "--rulebook", "nist-800-63b-4"],
    "keymallet judge --rulebook ruleb": ["judge", "--rulebook", "rulebook.toml"],
    "keymallet read --only cr": ["read", "--only", "crew"],
    "keymallet show crew/o.varg": ["show", "crew/o.varga"],
    "keymallet show o.varg": ["show", "o.varga"],
    "keymallet show o.v": ["show", "o.var"],
    "keymallet judge --format j": ["judge", "--format", "json"],
}


@pytest.mark.parametrize("shell", first(1, SHELLS))
def test_what_a_tab_adds(shell: str, estate: Path, tmp_path: Path) -> None:
    """Commands, options, topics, rules, entries, limits, files, sources, accounts: as far as it is plain."""
    folder = Path(shutil.copytree(estate, tmp_path / "estate"))
    assert dict(zip(LINES, typed(shell, folder, list(LINES)), strict=True)) == LINES


@pytest.mark.parametrize("shell", first(1, SHELLS))
def test_a_hostile_name_arrives_as_it_is(shell: str, estate: Path, tmp_path: Path) -> None:
    """Nothing of it is run, split or taken for a pattern."""
    folder = Path(shutil.copytree(estate, tmp_path / "estate"))
    told = typed(shell, folder, [f"keymallet show crew/{beginning}" for beginning in HOSTILE])
    assert told == [["show", f"crew/{name}"] for name in HOSTILE.values()]
    assert not (folder / "owned").exists(), "what stood in a name was run"


def asked(line: str, folder: Path) -> list[str]:
    """What the program answers to bash."""
    environment = {
        **os.environ,
        "COMP_LINE": line,
        "COMP_POINT": str(len(line.encode())),
        "COMP_TYPE": "9",
        "_ARGCOMPLETE": "1",
        "_ARGCOMPLETE_SHELL": "bash",
        "_ARGCOMPLETE_STDOUT_FILENAME": str(folder / "answer"),
        "IFS": "\013",
    }
    done = subprocess.run([str(PROGRAM)], env=environment, cwd=folder, capture_output=True, text=True)
    assert done.stderr == ""
    answer = folder / "answer"
    words = answer.read_text().split("\013") if answer.exists() else []
    answer.unlink(missing_ok=True)
    return [word.removesuffix(" ") for word in words if word]


def test_names_that_hold_what_no_line_can_are_not_offered(estate: Path) -> None:
    assert not [word for word in asked("keymallet show crew/bel", estate) if "bel" in word]


@pytest.mark.parametrize("damage", ["estate.toml", "rulebook.toml", "register.toml", "snapshots"])
def test_nothing_is_said_where_nothing_can_be_read(estate: Path, tmp_path: Path, damage: str) -> None:
    """A Tab gives no message and no traceback, whatever is wrong with a file."""
    for path in estate.glob("*.toml"):
        (tmp_path / path.name).write_bytes(path.read_bytes())
    if damage == "snapshots":
        (tmp_path / damage).write_text("no folder")
    else:
        (tmp_path / damage).write_bytes(b"\xff[[[")
    for line in (
        "show cr",
        "show o.v",
        "rules show teap",
        "exempt end ke",
        "rehearse --set lim",
        "judge --ru",
    ):
        asked(f"keymallet {line}", tmp_path)


def test_names_of_the_newest_snapshot_of_this_estate(tmp_path: Path) -> None:
    for number, (estate, name) in enumerate(
        [("../estate.toml", "old"), ("../estate.toml", "new"), ("x", "not")]
    ):
        folder = tmp_path / "snapshots" / f"2026-11-2{number}"
        folder.mkdir(parents=True)
        (folder / "manifest.json").write_text(f'{{\n  "estate": "{estate}",\n')
        (folder / FILE).write_text(f"\nhr/a-{name}\n")
    (tmp_path / "estate.toml").write_text("[source.hr]\n")
    assert offers.accounts(str(tmp_path / "estate.toml"), "a") == ["a-new"]


def test_too_many_to_choose_from_are_not_offered_in_part(tmp_path: Path) -> None:
    """What some of them begin with alike would be taken for what all begin with."""
    (tmp_path / FILE).write_text(
        "\n" + "\n".join(f"hr/a{n:05}" for n in range(MOST_OFFERED + 1)) + "\nhr/b\n"
    )
    assert names_with(str(tmp_path), "a") == []
    assert len(names_with(str(tmp_path), "a0000")) == 10
    assert names_with(str(tmp_path), "b") == ["b"]
    assert names_with(str(tmp_path), "hr/b") == ["hr/b"]


def test_a_million_names_are_searched_in_time(tmp_path: Path) -> None:
    """The whole answer, process and all, in the time of about four bare starts of Python; at most 100 ms here."""
    assert FEW < 1_000_000
    folder = tmp_path / "snapshots" / "2026-11-24"
    folder.mkdir(parents=True)
    (folder / "manifest.json").write_text('{\n  "estate": "../estate.toml",\n')
    (folder / FILE).write_text(
        "\n" + "\n".join(f"directory/u{n:07}.person" for n in range(1_000_000)) + "\nhr/zz\n"
    )
    (tmp_path / "estate.toml").write_text("[source.hr]\n")
    searched = []
    for _ in range(7):
        started = time.perf_counter()
        assert offers.accounts(str(tmp_path / "estate.toml"), "zz") == ["zz"]
        searched.append(time.perf_counter() - started)
    assert min(searched) < 0.1

    def least(words: list[str], environment: dict[str, str]) -> float:
        spent = []
        for _ in range(9):
            started = time.perf_counter()
            subprocess.run(words, env=environment, cwd=tmp_path, capture_output=True, check=False)
            spent.append(time.perf_counter() - started)
        return min(spent)

    bare = least([sys.executable, "-c", "pass"], dict(os.environ))
    line = "keymallet show zz"
    asking = {"COMP_LINE": line, "COMP_POINT": str(len(line)), "COMP_TYPE": "9", "_ARGCOMPLETE": "1"}
    assert least([str(PROGRAM)], {**os.environ, **asking}) < max(0.1, 8 * bare)


def test_every_topic_and_argument_is_known_to_it() -> None:
    assert tuple(TOPICS) == OFFERED_TOPICS
    assert parser_of_all().format_usage()
    assert set(COMMANDS) >= {"completion", "judge"}


def test_what_begins_so_within_names_is_no_beginning(tmp_path: Path) -> None:
    """However often it stands there; and a name that begins like its source is found by itself too."""
    lines = [f"web/host-{n % 7}/u{n}.person" for n in range(3_000)]
    (tmp_path / FILE).write_text(
        "\n" + "\n".join([*lines, "web/host-1/perla\tperla@x.example\tPer Lund", "per/per"]) + "\n"
    )
    assert sorted(names_with(str(tmp_path), "per")) == ["per", "per/per", "perla", "perla@x.example"]
    assert names_with(str(tmp_path), "Per") == ["Per Lund"]
    assert names_with(str(tmp_path), "person") == [] and names_with(str(tmp_path), "") == []
