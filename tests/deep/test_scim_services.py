"""A SCIM service of another make, and one of 30,000 users: everybody arrives once, as what they are."""

from __future__ import annotations

import json
import shutil
import socket
import subprocess
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import httpx
import pytest

from tests.mended import breaches, rule
from tests.oracles import missing
from tests.sources.scim.test_scim import ENTERPRISE, TOKEN, by_index, ok, read, rows, service
from tests.support import run, write

pytestmark = pytest.mark.deep
USERS = 53
PACKAGES = ("scimmy@1.3.5", "scimmy-routers@1.3.2", "express@4")


def user(number: int) -> dict[str, Any]:
    return {
        "id": f"id-{number}",
        "userName": f"u{number:05}",
        "active": number % 5 != 0,
        "displayName": f"User {number}",
        "emails": [{"value": f"o{number}@gvr.example"}, {"value": f"u{number}@gvr.example", "primary": True}],
        "roles": [{"value": "fares-admin"}] if number % 10 == 3 else [],
        "meta": {"resourceType": "User", "created": "2026-03-01T08:00:00.000Z"},
        ENTERPRISE: {"employeeNumber": str(number), "department": "Fares", "manager": {"value": "id-1"}},
    }


@pytest.fixture(scope="module")
def another_make(tmp_path_factory: pytest.TempPathFactory) -> Iterator[str]:
    """The npm implementation, with its packages in a folder of its own."""
    node, npm = shutil.which("node"), shutil.which("npm")
    if node is None or npm is None:
        missing("a SCIM service of another make needs node and npm")
    folder = tmp_path_factory.mktemp("scim-service")
    (folder / "package.json").write_text('{"type": "module"}')
    done = subprocess.run(
        [npm, "install", *PACKAGES], cwd=folder, capture_output=True, text=True, check=False
    )
    if done.returncode:
        missing(f"the packages do not install: {done.stderr[-200:]}")
    shutil.copy(Path(__file__).with_name("scim_service.mjs"), folder)
    night = {"id": "g1", "displayName": "night", "members": [{"value": "id-2", "type": "User"}]}
    admins = {"id": "g2", "displayName": "admins", "members": [{"value": "g1", "type": "Group"}, {"value": "id-3", "type": "User"}]}  # fmt: skip
    tenant = {"users": [user(number) for number in range(USERS)], "groups": [night, admins]}
    (folder / "tenant.json").write_text(json.dumps(tenant))
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = probe.getsockname()[1]
    words = [node, "scim_service.mjs", "tenant.json", str(port), TOKEN]
    process = subprocess.Popen(words, cwd=folder, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True)
    try:
        assert process.stdout is not None and "ready" in process.stdout.readline()
        yield f"http://127.0.0.1:{port}/scim/v2"
    finally:
        process.terminate()
        process.wait(10)


def test_a_service_of_another_make(another_make: str, tmp_path: Path) -> None:
    """Everybody once, in pages smaller than the service's own; who is off, in which group, with which role."""
    options = {"page-size": 7, "privileged-roles": ["*-admin"], "kinds": {"*": "person"}}
    reading = read(tmp_path, another_make, **options)
    found = rows(reading)
    assert sorted(found) == [f"u{number:05}" for number in range(USERS)]
    assert not reading.incomplete and reading.intake["account"].refused == 0
    for number in range(USERS):
        row = found[f"u{number:05}"]
        assert row["enabled"] is (number % 5 != 0)
        assert (row["mail"], row["person"]) == (f"u{number}@gvr.example", str(number))
        assert (row["unit"], row["manager"]) == ("Fares", "u00001")
    assert (found["u00002"]["groups"], found["u00003"]["groups"]) == (["night", "admins"], ["admins"])
    assert sorted(rows(reading, "grant")) == [f"u{number:05}" for number in range(3, USERS, 10)]


def test_thirty_thousand_users(tmp_path: Path) -> None:
    """In pages of 500, none lost; within a bound that only a square of their number would pass."""
    total = 30_000

    def answer(path: str, asked: dict[str, str]) -> Any:
        if path != "Users":
            return by_index(path, asked)
        start = int(asked["startIndex"])
        here = [user(number) for number in range(start, min(start + 500, total + 1))]
        return ok({"totalResults": total, "startIndex": start, "Resources": here})

    with service(answer) as url:
        began = time.perf_counter()
        reading = read(tmp_path, url, **{"page-size": 500})
        took = time.perf_counter() - began
    assert len(reading.tables["account"]) == total and not reading.incomplete
    assert took < 60, f"{took:.0f} s"


ESTATE = """
organisation = "Quay"
clock = "UTC"
rulebook = "book.toml"
[source.quay]
read = "scim"
url = "{url}"
token-from = "env:TOKEN"
privileged-roles = ["*-admin"]
kinds = {{ "*" = "person" }}
"""
BOOK = (
    'title = "Quay"\n'
    + rule("off", "kind = service", "low", "switch-off", who="enabled and name in ['u00001', 'u00002']")
    + rule("power", "not privileged", "high", "remove-grant", each="grant")
)


def test_changes_are_made_and_undone_in_a_service_of_another_make(another_make: str, tmp_path: Path) -> None:
    """Users switched off, roles removed; then all as it was."""
    headers = {"Authorization": f"Bearer {TOKEN}", "Content-Type": "application/scim+json"}
    write(tmp_path, {"estate.toml": ESTATE.format(url=another_make), "book.toml": BOOK})

    def sent(name: str) -> None:
        for line in (tmp_path / "out" / name).read_text().splitlines():
            asked = json.loads(line)
            answer = httpx.patch(f"{another_make}{asked['path']}", json=asked["data"], headers=headers)
            assert answer.status_code in (200, 204), answer.text

    before = breaches(tmp_path, TOKEN=TOKEN)
    assert {each[0] for each in before} == {"off", "power"} and len(before) == 2 + len(range(3, USERS, 10))
    run("mend", "--all", "--into", "out", cwd=tmp_path)
    sent("quay.jsonl")
    assert breaches(tmp_path, TOKEN=TOKEN) == set()
    sent("quay.back.jsonl")
    assert breaches(tmp_path, TOKEN=TOKEN) == before
