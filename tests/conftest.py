"""The railway's estate, made and railway_snapshot once for all tests that only read it."""

from __future__ import annotations

import os
import shutil
from pathlib import Path

import pytest
from hypothesis import settings

from keymallet.demo.railway import write_estate
from tests.support import run

# In CI the same examples each time: a change is judged by itself. Elsewhere new ones are tried.
settings.register_profile("ci", derandomize=True)
if os.environ.get("CI"):
    settings.load_profile("ci")

RAILWAY_AT = "2026-11-24T09:00Z"


@pytest.fixture(scope="session")
def railway_snapshot(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The estate with one snapshot. Not to be changed."""
    folder = tmp_path_factory.mktemp("railway")
    write_estate(folder)
    run("read", "--at", RAILWAY_AT, cwd=folder, expect=3)
    return folder


@pytest.fixture
def railway(railway_snapshot: Path, tmp_path: Path) -> Path:
    """A copy of it to do with as one likes."""
    return Path(shutil.copytree(railway_snapshot, tmp_path / "railway"))
