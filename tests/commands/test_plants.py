"""What base finds, unedited, on an estate of five kinds of system with 180 planted problems, and what it does not.

The plants were written down before the rules were read. `plants.csv` tells of each what is wrong and which rule
finds it; none is known to where that is empty. What is found on accounts with nothing planted stands in
`besides.csv`, with the reason why it is true.
"""

from __future__ import annotations

import csv
import io
import shutil
from pathlib import Path

import pytest

from tests.support import run_installed

PLANTS = Path(__file__).parents[1] / "plants"
AT = "2026-11-28T12:00:00Z"


def table(name: str) -> list[dict[str, str]]:
    """The rows of a file beside the estate."""
    with (PLANTS / name).open(encoding="utf-8", newline="") as file:
        return list(csv.DictReader(file))


@pytest.fixture(scope="module")
def findings(tmp_path_factory: pytest.TempPathFactory) -> list[dict[str, str]]:
    """Every breach that base sees there."""
    folder = shutil.copytree(PLANTS, tmp_path_factory.mktemp("plants") / "estate")
    for path in (folder, *folder.rglob("*")):
        path.chmod(0o755 if path.is_dir() else 0o644)
    # Git keeps no folder without a file: nobody has failed there yet.
    for host in (folder / "hosts").iterdir():
        (host / "var/run/faillock").mkdir(parents=True, exist_ok=True)
    run_installed("read", "--at", AT, cwd=folder)
    judged = run_installed("judge", "--at", AT, "--format", "csv", cwd=folder, expect=1)
    rows = csv.DictReader(io.StringIO(judged.stdout))
    return [row for row in rows if row["verdict"] == "breach"]


def is_about(finding: dict[str, str], thing: str) -> bool:
    """Whether a finding is on this account, or on the elevation, gate or setting of this name."""
    _, _, name = thing.partition(" ")
    if not name:
        return finding["account"] == thing
    if finding["rule"] == "root-from-afar":
        return finding["account"] == f"pumps/{name}/root"
    of_host = finding["subject"] == "host rules" and finding["account"] == f"pumps/{name}"
    return of_host or finding["subject"].startswith((f"{name} ", f"cn={name},")) or finding["subject"] == name


def test_what_is_planted_is_found(findings: list[dict[str, str]]) -> None:
    """By the rule that stands beside it; at least 110 of 117, as was asked for."""
    plants = table("plants.csv")
    for plant in plants:
        if plant["found-by"] == "few-owners":
            assert any(row["rule"] == "few-owners" and row["subject"] == "source suite" for row in findings)
        elif plant["found-by"]:
            found = {row["rule"] for row in findings if is_about(row, plant["object"])}
            assert plant["found-by"] in found, plant
    known = sum(plant["found-by"] != "" for plant in plants)
    assert (known, len(plants)) == (172, 180)


def test_nothing_is_found_where_nothing_is_amiss(findings: list[dict[str, str]]) -> None:
    """Joiners, people away, whole teams whose passwords are of one day, machines, the emergency account."""
    planted = {plant["object"] for plant in table("plants.csv")}
    with_elevations = {row["account"] for row in findings if row["subject"][:1] == "E"}
    others = {
        (row["account"], row["rule"])
        for row in findings
        if "/" in row["account"] and row["account"] not in planted | with_elevations
    }
    settings = {"pumps/inlet", "pumps/outfall"}
    assert {pair for pair in others if pair[0] not in settings} == {
        (row["object"], row["found-by"]) for row in table("besides.csv")
    }
