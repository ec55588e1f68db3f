"""What many tests share: the railway's estate, made and read once for all workers; how long tests look."""

from __future__ import annotations

import fcntl
import os
import shutil
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from keymallet.demo.railway import write_estate
from keymallet.reports.registry import REPORTS
from tests import profiles
from tests.postgresql import Server
from tests.support import run, run_installed

RAILWAY_AT, RAILWAY_NEXT = "2026-11-24T09:00Z", "2026-11-25T09:00Z"


def pytest_collection_modifyitems(config: pytest.Config, items: list[pytest.Item]) -> None:
    """Leave the tests marked `deep` to `make test-deep`."""
    if profiles.PROFILE != "deep":
        long = [item for item in items if item.get_closest_marker("deep")]
        config.hook.pytest_deselected(items=long)
        items[:] = [item for item in items if item not in long]


def made_once(factory: pytest.TempPathFactory, name: str, make: Callable[[Path], None]) -> Path:
    """A folder that the first worker to need it makes, and all others wait for. Not to be changed."""
    base = factory.getbasetemp()
    shared = base.parent if os.environ.get("PYTEST_XDIST_WORKER") else base
    folder, done = shared / name, shared / f"{name}.done"
    with (shared / f"{name}.lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        if not done.exists():
            folder.mkdir()
            make(folder)
            done.touch()
    return folder


@pytest.fixture(scope="session")
def railway_snapshot(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The estate with one snapshot, and two runs of it in the logbook. Not to be changed."""

    def make(folder: Path) -> None:
        write_estate(folder)
        run("read", "--at", RAILWAY_AT, cwd=folder, expect=3)
        for instant in (RAILWAY_AT, RAILWAY_NEXT):
            run("judge", "--at", instant, "--record", cwd=folder, expect=1)

    return made_once(tmp_path_factory, "railway", make)


@pytest.fixture(scope="session")
def four_weeks(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """What `keymallet demo` leaves in the folder `there`, and in `told.txt` what it said. Not to be changed."""

    def make(folder: Path) -> None:
        told = run_installed("demo", "there", cwd=folder, expect=0).stdout
        (folder / "told.txt").write_text(told, "utf-8")

    return made_once(tmp_path_factory, "four-weeks", make)


@pytest.fixture(scope="session")
def reports(four_weeks: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The last of the four weeks' runs in every format but those that need a key or half a minute. Not to be changed."""

    def make(folder: Path) -> None:
        formats = [word for name in REPORTS if name not in ("set", "pdf") for word in ("--format", name)]
        run("report", *formats, "--into", str(folder), cwd=four_weeks / "there", expect=0)

    return made_once(tmp_path_factory, "reports", make)


@pytest.fixture
def railway(railway_snapshot: Path, tmp_path: Path) -> Path:
    """A copy of it to do with as one likes."""
    return Path(shutil.copytree(railway_snapshot, tmp_path / "railway"))


@pytest.fixture(scope="session")
def postgresql() -> Iterator[Server]:
    """A database server, for all tests of this worker that want one."""
    server = Server()
    yield server
    server.close()
