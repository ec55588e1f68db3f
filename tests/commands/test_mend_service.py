"""What mend writes for a SCIM service, sent to the stand-in; read and judged again; and undone."""

from __future__ import annotations

import csv
import json
import re
import subprocess
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import httpx
import pytest

from keymallet.core.facts import scim_extension
from keymallet.demo.service import TOKEN
from tests.demo.test_service import served
from tests.mended import breaches, rule
from tests.oracles import PLACES, program
from tests.sources.scim.test_scim import ok, service
from tests.support import run, write

HEADERS = {"Authorization": f"Bearer {TOKEN}", "Content-Type": "application/scim+json"}
URN = scim_extension.URN
HOSTILE = (
    "plain",
    'a"b\\c',
    "x] or (1 eq 1)",
    "line\nbreak",
    "zürich\u202e",
    "$(touch pwned)",
    "' or 1=1",
    "y" * 1000,
)
"""Names and labels that end a string, a filter or a line where somebody writes them carelessly."""
ESTATE = """
organisation = "Loft"
clock = "UTC"
rulebook = "book.toml"
[source.loft]
read = "scim"
url = "{url}"
token-from = "env:TOKEN"
privileged-roles = ["*admin"]
user-types = {{ "Loft" = "person" }}
"""
BOOK = (
    'title = "Loft"\n'
    + rule("off", "not enabled", "high", "switch-off", who="kind = person and unit = 'off'")
    + rule(
        "demand",
        "age(password-changed) <= 60d",
        "medium",
        "change-password",
        who="kind = person and unit = 'aged'",
    )
    + rule(
        "power",
        "not privileged",
        "high",
        "remove-grant",
        each="grant",
        who="account.unit in ['rest', 'role']",
    )
    + rule("keys", "state != active", "low", "revoke-key", each="key", who="account.unit = 'rest'")
    + rule("sms", "kind != sms", "low", "remove-factor", each="factor", who="account.unit = 'rest'")
)


def user(number: int, name: str, unit: str, own: dict[str, Any], **core: Any) -> dict[str, Any]:
    return {
        "userName": f"{name} {unit} {number}", "active": True, "userType": "Loft", **core,
        "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User": {"department": unit}, URN: own,
    }  # fmt: skip


def everybody() -> list[dict[str, Any]]:
    users = []
    for number, name in enumerate(HOSTILE):
        factors = [{"kind": kind, "state": "active", "label": f"{name} {kind}"} for kind in ("sms", "otp")]
        keys = [{"key": f"{name}-{place}", "kind": "api-key", "state": state, "issued": "2026-01-02T03:04:05Z"}
                for place, state in enumerate(("active", "inactive"))]  # fmt: skip
        held = [{"role": f"{name} admin", "privileged": True, "mode": "standing", "scope": name},
                {"role": f"{name} reader", "privileged": False, "mode": "standing"}]  # fmt: skip
        users += [
            user(number, name, "off", {}),
            user(
                number,
                name,
                "aged",
                {"passwordChanged": "2026-01-02T03:04:05Z", "passwordMustChange": False},
                password="Long-Enough-4711",
            ),
            user(number, name, "rest", {"factors": factors, "keys": keys, "grants": held}),
            user(
                number,
                name,
                "role",
                {},
                roles=[{"value": f"{name} admin", "type": "direct"}, {"value": "reader"}],
            ),
        ]
    return users


@pytest.fixture
def loft(tmp_path: Path) -> Iterator[tuple[str, Path]]:
    with served() as url:
        operations = [{"method": "POST", "path": "/Users", "bulkId": str(number), "data": each}
                      for number, each in enumerate(everybody())]  # fmt: skip
        answer = httpx.post(f"{url}/Bulk", json={"Operations": operations}, headers=HEADERS).json()
        assert {each["status"] for each in answer["Operations"]} == {"201"}
        write(tmp_path, {"estate.toml": ESTATE.format(url=url), "book.toml": BOOK})
        yield url, tmp_path


def held(url: str) -> dict[str, dict[str, Any]]:
    """Every user by id, without what counts changes."""
    users: dict[str, dict[str, Any]] = {}
    while True:
        asked = {"startIndex": len(users) + 1}
        page = httpx.get(f"{url}/Users", headers=HEADERS, params=asked).json()["Resources"]
        if not page:
            return users
        for each in page:
            each["meta"].pop("version", None)
            users[each["id"]] = each


def sent(url: str, path: Path) -> list[int]:
    """Each line as a request of its own, by the loop that the docs have."""
    page = (Path(__file__).parents[2] / "docs" / "mending.md").read_text()
    (loop,) = (block for block in re.findall(r"```\n(.*?)```", page, re.DOTALL) if "curl" in block)
    loop = loop.replace("cloud.jsonl", str(path)).replace("-sS", "-sS -o answer -w '%{http_code}\\n'")
    for name in ("curl", "jq"):
        program(name)
    done = subprocess.run([program("dash"), "-c", loop], cwd=path.parent, capture_output=True, text=True, check=False,
                          env={"PATH": PLACES, "URL": url, "TOKEN": TOKEN})  # fmt: skip
    assert not done.stderr, done.stderr
    return [int(word) for word in done.stdout.split()]


def as_sets(users: dict[str, dict[str, Any]]) -> dict[str, str]:
    """The same with lists in one order: a member that is put back stands last."""

    def plain(value: Any) -> Any:
        if isinstance(value, dict):
            return {key: plain(member) for key, member in value.items() if member != []}
        return sorted(map(json.dumps, map(plain, value))) if isinstance(value, list) else value

    return {ident: json.dumps(plain(each), sort_keys=True) for ident, each in users.items()}


def test_changes_of_a_service_are_made_and_undone(loft: tuple[str, Path]) -> None:
    """For every kind of change, with every hostile name: just those, and then as it was."""
    url, folder = loft
    before, stood = breaches(folder, TOKEN=TOKEN), held(url)
    number = len(HOSTILE)
    assert len(before) == 6 * number
    told = run("mend", "--all", "--into", "out", cwd=folder).stdout
    # A new password is tried as if it were set already.
    assert f"{len(before)} findings ended · 0 newly broken" in told
    assert set(sent(url, folder / "out/loft.jsonl")) == {200}
    changed = held(url)
    ours = {each["userName"] for each in everybody()}
    differing = {changed[ident]["userName"] for ident in stood if changed[ident] != stood[ident]}
    assert {name.lower() for name in ours} == differing
    assert breaches(folder, TOKEN=TOKEN) == {each for each in before if each[0] == "demand"}
    rest = next(each for each in changed.values() if each["userName"].startswith("plain rest"))[URN]
    assert [each["kind"] for each in rest["factors"]] == ["otp"]
    assert [each["state"] for each in rest["keys"]] == ["revoked", "inactive"]
    assert [each["role"] for each in rest["grants"]] == ["plain reader"]
    lines = [json.loads(line) for line in (folder / "out/loft.back.jsonl").read_text().splitlines()]
    answer = httpx.post(f"{url}/Bulk", json={"Operations": lines}, headers=HEADERS).json()
    assert {each["status"] for each in answer["Operations"]} == {"200"}
    assert as_sets(held(url)) == as_sets(stood) and breaches(folder, TOKEN=TOKEN) == before
    # Every user has changed since the evidence was read: nothing of it is taken again.
    assert set(sent(url, folder / "out/loft.jsonl")) == {412}


def test_where_a_change_is_sent(tmp_path: Path) -> None:
    """An id is one part of the path, whatever stands in it; what the estate maps is changed where it is read."""
    users = [
        {"id": "4/../9 x", "userName": "odd", "active": True, "urn:x:User": {"state": {"open": True}}},
        {"id": "..", "userName": "dots", "active": True},
    ]
    listed = {"totalResults": len(users), "startIndex": 1, "Resources": users}
    with service(lambda path, asked: ok(listed if path == "Users" else {"Resources": []})) as url:
        estate = (
            ESTATE.format(url=url).replace('{ "Loft" = "person" }', "{ }")
            + 'facts = { enabled = "urn:x:User:state.open" }\n'
        )
        book = BOOK.replace("kind = person and unit = 'off'", "enabled")
        write(tmp_path, {"estate.toml": estate, "book.toml": book})
        run("read", cwd=tmp_path, TOKEN=TOKEN)
        run("mend", "--rule", "off", "--into", "out", "--even-if-it-breaks", cwd=tmp_path)
    (line,) = (tmp_path / "out/loft.jsonl").read_text().splitlines()
    asked = json.loads(line)
    assert asked["path"] == "/Users/4%2F..%2F9%20x" and "version" not in asked
    assert asked["data"]["Operations"] == [{"op": "replace", "path": "urn:x:User:state.open", "value": False}]
    with (tmp_path / "out/loft.csv").open(encoding="utf-8-sig") as file:
        assert {row["account"]: row["how"] for row in csv.DictReader(file)} == {
            "loft/odd": "SCIM",
            "loft/dots": "by hand",
        }
