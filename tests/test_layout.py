"""The house: who may import whom, and what starting up may cost."""

from __future__ import annotations

import ast
import subprocess
import sys
import tomllib
from functools import cache
from pathlib import Path

import pytest

SOURCE = Path(__file__).parent.parent / "src" / "keymallet"
FILES = sorted(SOURCE.rglob("*.py"))

FLOORS = (
    ("core.base",),
    ("core.facts",),
    ("core.language",),
    ("core.rulebook",),
    ("core.linking",),
    ("core.evaluating",),
    ("core.judging",),
    ("core.explaining",),
    ("core.topics", "core.studies", "core.history", "core.vetting"),
    ("core.mending", "core.sharding"),
)
"""The floors of the core: each may import what is below it, and itself; rooms side by side know nothing
of each other."""

CORE = {room for floor in FLOORS for room in floor}
MAY_IMPORT: dict[str, set[str]] = {
    **{
        room: {lower for below in FLOORS[:place] for lower in below} | {room}
        for place, floor in enumerate(FLOORS)
        for room in floor
    },
    "sources": {*CORE, "engines", "sources"},
    "store": {*CORE, "store"},
    "engines": {*CORE, "engines"},
    "sharded": {*CORE, "store", "engines", "sharded"},
    "outputs": {*CORE, "outputs"},
    "fitting": {*CORE, "sources", "fitting"},
    "starting": {*CORE, "sources", "fitting", "starting"},
    "views": {*CORE, "store", "fitting", "starting", "views"},
    "reports": {*CORE, "outputs", "reports"},
    "proposals": {*CORE, "proposals"},
    "sending": {*CORE, "sending"},
    "completing": {*CORE, "store", "completing"},
    "demo": {*CORE, "demo"},
    "rulebooks": set(),
    "commands": {
        *CORE,
        "sources",
        "store",
        "outputs",
        "fitting",
        "starting",
        "views",
        "reports",
        "proposals",
        "sending",
        "demo",
        "completing",
        "engines",
        "sharded",
        "commands",
    },
}
"""Every room, and the rooms it may import."""

SOURCES_APART = {"export", "host", "directory", "scim"}
"""Sources that do not know each other; what they share stands beside them."""

LATE = {
    ("commands/main.py", "keymallet.views.problems"): "help and usage errors are told without rich",
    ("commands/main.py", "keymallet.commands.last_resort"): "only a fault of the program needs it",
    ("commands/completing.py", "keymallet.core.facts.declaration"): "names of accounts do not wait for it",
    ("commands/main.py", "keymallet.commands.completing"): "only a shell asks for it",
    ("commands/main.py", "keymallet.core.base.problems"): "the list of commands needs no dataclasses",
    ("commands/main.py", "keymallet.core.base.nearest"): "only a mistyped command needs it",
    ("commands/judge.py", "keymallet.commands.recording"): "a trial that is shown needs no database",
    ("commands/judge.py", "keymallet.commands.unrecorded"): "what is shown as a table needs nothing of it",
    (
        "commands/unrecorded.py",
        "keymallet.commands.logbooks",
    ): "an estate without a logbook needs no database",
    ("commands/judge.py", "keymallet.commands.judge_sealed"): "most judging is of no sealed run",
    ("commands/judge.py", "keymallet.commands.shards"): "most snapshots are not divided",
    ("commands/judge.py", "keymallet.sharded.judging"): "most snapshots are not divided",
    ("commands/taking_in.py", "keymallet.sharded.linking"): "most snapshots are not divided",
    ("commands/judge.py", "keymallet.sharded.tasks"): "most snapshots are not divided",
    ("commands/ahead.py", "keymallet.commands.shards"): "most snapshots are not divided",
    ("commands/ahead.py", "keymallet.sharded.ahead"): "most snapshots are not divided",
    ("commands/show.py", "keymallet.commands.shards"): "most snapshots are not divided",
    ("commands/show.py", "keymallet.sharded.looking"): "most snapshots are not divided",
    ("commands/who.py", "keymallet.commands.shards"): "most snapshots are not divided",
    ("commands/who.py", "keymallet.sharded.picking"): "most snapshots are not divided",
    ("commands/trials.py", "keymallet.commands.recording"): "only a run that fails needs it",
    ("commands/report.py", "keymallet.commands.report_drawn"): "most reports need no snapshot",
    ("commands/report.py", "keymallet.commands"): "most reports are not sent",
    ("commands/judging_inputs.py", "keymallet.commands.taking_in"): "most judging reads no sources",
    (
        "sources/export/json_export.py",
        "keymallet.sources.export.json_blocks",
    ): "most exports are no JSON lines",
    ("store/logbook/connecting.py", "alembic"): "only a logbook that is new or of an older version needs it",
    ("core/base/nearest.py", "rapidfuzz"): "only a mistyped word needs it",
    ("reports/openmetrics.py", "prometheus_client.openmetrics"): "an extra that need not be installed",
    ("reports/openmetrics.py", "prometheus_client.core"): "an extra that need not be installed",
    ("reports/event_tokens.py", "cryptography.exceptions"): "only tokens need it",
    ("reports/event_tokens.py", "cryptography.hazmat.primitives.asymmetric"): "only tokens need it",
    ("reports/event_tokens.py", "cryptography.hazmat.primitives.serialization"): "only tokens need it",
    ("views/figures.py", "matplotlib"): "an extra that need not be installed",
    ("views/trend.py", "matplotlib"): "an extra that need not be installed",
}
"""Everything that is imported within a function, and why it is not at the top."""


@cache
def imports(path: Path) -> frozenset[str]:
    """Every module or name of one that a file imports, at its top or within a function."""
    names: set[str] = set()
    for node in ast.walk(ast.parse(path.read_text("utf-8"))):
        if isinstance(node, ast.Import):
            names |= {alias.name for alias in node.names}
        elif isinstance(node, ast.ImportFrom) and node.module:
            assert node.level == 0, f"{path}: imports are written in full"
            names |= {f"{node.module}.{alias.name}" for alias in node.names}
    return frozenset(names)


def room_of(module: str) -> str:
    """`keymallet.core.facts.model` stands in core.facts, `keymallet.views.terminal` in views."""
    parts = module.split(".")[1:]
    return ".".join(parts[:2]) if parts[0] == "core" else parts[0]


def module_of(path: Path) -> str:
    return ".".join(("keymallet", *path.relative_to(SOURCE).with_suffix("").parts)).removesuffix(".__init__")


MODULES = {module_of(path): path for path in FILES}


def inside(name: str) -> str | None:
    """The module of ours that an imported name is, or stands in."""
    while name not in MODULES and "." in name:
        name = name.rpartition(".")[0]
    return name if name in MODULES and name != "keymallet" else None


@pytest.mark.parametrize("path", FILES, ids=lambda path: str(path.relative_to(SOURCE)))
def test_arrows_point_one_way(path: Path) -> None:
    """As the table says: floors inside the core, and what rests on it; never back, never across."""
    module = module_of(path)
    if module in ("keymallet", "keymallet.__main__", "keymallet.core"):
        return
    for name in filter(None, map(inside, imports(path))):
        assert room_of(name) in MAY_IMPORT[room_of(module)], f"{module} imports {name}"
        if room_of(module) == room_of(name) == "sources":
            mine, its = (set(each.split(".")[2:3]) & SOURCES_APART for each in (module, name))
            assert not mine or not its or mine == its, f"{module} imports {name}"


def test_there_is_no_circle() -> None:
    """Not even inside one room, nor through an import within a function."""
    arrows = {
        module: {*filter(None, map(inside, imports(path)))} - {module} for module, path in MODULES.items()
    }
    while leaves := {module for module, uses in arrows.items() if not uses & arrows.keys()}:
        arrows = {module: uses for module, uses in arrows.items() if module not in leaves}
    assert not arrows, f"these import each other, or what does: {sorted(arrows)}"


def test_every_room_says_what_stands_in_it() -> None:
    """In at most three lines; and every room is in the table."""
    for path in SOURCE.rglob("__init__.py"):
        text = ast.get_docstring(ast.parse(path.read_text("utf-8"))) or ""
        assert text, path
        if {"core", "sources"} & {*path.parts}:
            assert len(text.splitlines()) <= 3, path
    rooms = {
        room_of(module) for module in MODULES if module.count(".") > 1 or module.startswith("keymallet.r")
    }
    assert rooms == MAY_IMPORT.keys()


@pytest.mark.parametrize("path", FILES, ids=lambda path: str(path.relative_to(SOURCE)))
def test_what_is_imported_late_has_a_reason(path: Path) -> None:
    """All else stands at the top, where it is seen."""
    for function in ast.walk(ast.parse(path.read_text("utf-8"))):
        if isinstance(function, ast.FunctionDef | ast.AsyncFunctionDef):
            for node in ast.walk(function):
                named = [alias.name for alias in node.names] if isinstance(node, ast.Import) else []
                named += [node.module] if isinstance(node, ast.ImportFrom) and node.module else []
                for name in named:
                    allowed = [(str(path.relative_to(SOURCE)), one) for one in (name, name.split(".")[0])]
                    assert LATE.keys() & set(allowed), f"{path} imports {name} within {function.name}"


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
