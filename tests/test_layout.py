"""The house: who may import whom, and what starting up may cost."""

from __future__ import annotations

import ast
import subprocess
import sys
import tomllib
from pathlib import Path

import pytest

SOURCE = Path(__file__).parent.parent / "src" / "keymallet"
MAY_IMPORT = {
    "core": {"core"},
    "sources": {"core", "sources"},
    "store": {"core", "store"},
    "outputs": {"core", "outputs"},
    "fitting": {"core", "sources", "fitting"},
    "views": {"core", "store", "fitting", "views"},
    "demo": {"core", "demo"},
    "commands": {"core", "sources", "store", "outputs", "fitting", "views", "demo", "commands"},
}
FILES = sorted(SOURCE.rglob("*.py"))


def imports(path: Path) -> set[str]:
    """Every module a file imports, at its top or within a function."""
    found: set[str] = set()
    for node in ast.walk(ast.parse(path.read_text("utf-8"))):
        if isinstance(node, ast.Import):
            found |= {alias.name for alias in node.names}
        elif isinstance(node, ast.ImportFrom) and node.module:
            assert node.level == 0, f"{path}: imports are written in full"
            found |= {f"{node.module}.{alias.name}" for alias in node.names}
    return found


@pytest.mark.parametrize("path", FILES, ids=lambda path: str(path.relative_to(SOURCE)))
def test_arrows_point_one_way(path: Path) -> None:
    """Commands to views, outputs, store and sources, and those to the core; never back, never across."""
    place = path.relative_to(SOURCE).parts[0]
    allowed = MAY_IMPORT.get(place, {"commands", "__version__"})
    for name in imports(path):
        if name.startswith("keymallet."):
            target = name.split(".")[1]
            assert target in allowed | {"__version__"}, f"{path} imports {name}"


@pytest.mark.parametrize("path", sorted((SOURCE / "core").rglob("*.py")), ids=lambda path: path.name)
def test_the_core_knows_no_files_screens_networks_or_clock(path: Path) -> None:
    """What it judges is handed to it, the instant too."""
    forbidden = {"os", "pathlib", "socket", "urllib", "http", "rich", "argparse", "subprocess", "time", "sys"}
    assert not {name.split(".")[0] for name in imports(path)} & forbidden
    calls = {
        ast.unparse(node.func)
        for node in ast.walk(ast.parse(path.read_text("utf-8")))
        if isinstance(node, ast.Call)
    }
    assert not calls & {"open", "print", "datetime.now", "date.today", "datetime.utcnow"}


@pytest.mark.parametrize(
    "words", [["--help"], ["judge", "--help"], ["nonsense"], ["judge", "--nonsense"], ["--version"]]
)
def test_help_and_usage_errors_start_light(words: list[str]) -> None:
    """Neither Polars nor PyArrow nor rich is loaded to say how a command is used."""
    code = f"""
import sys
from keymallet.commands.main import main
try:
    main({words!r})
except SystemExit:
    pass
print(sorted({{'polars', 'pyarrow', 'rich', 'lark', 'msgspec', 'numpy'}} & set(sys.modules)))
"""
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert done.stdout.splitlines()[-1] == "[]"


def test_every_file_that_is_read_at_run_time_is_installed() -> None:
    """An editable install finds them in any case; a real one only if they are named."""
    project = tomllib.loads((SOURCE.parent.parent / "pyproject.toml").read_text("utf-8"))
    patterns = project["tool"]["setuptools"]["package-data"]["keymallet"]
    named = {path for pattern in patterns for path in SOURCE.glob(pattern)}
    there = {path for path in SOURCE.rglob("*") if path.is_file() and "__pycache__" not in path.parts}
    assert {path for path in there if path.suffix != ".py"} == named
