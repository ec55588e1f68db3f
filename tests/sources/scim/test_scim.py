"""SCIM: two servers that are not ours and ours that misbehaves; pages, retries, counts, secrets."""

from __future__ import annotations

import json
import os
import socket
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from datetime import UTC, datetime, timedelta
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any
from urllib.parse import parse_qs, urlsplit

import httpx
import msgspec
import pytest
from hypothesis import given
from hypothesis import strategies as st

from keymallet.core.base.problems import KeymalletError
from keymallet.core.facts.reading import Reading
from keymallet.core.facts.scim_extension import URN as EXTENSION
from keymallet.sources.request import Request
from keymallet.sources.scim import reader
from keymallet.sources.scim import service as scim_service
from keymallet.sources.scim.spelling import ENTERPRISE
from keymallet.sources.scim.users import Tenant
from keymallet.sources.sections import ScimSection
from tests.profiles import examples
from tests.support import AT, CLOCK, run, write

TOKEN = "planted-token-0815"
Answer = tuple[int, dict[str, str], bytes]


def read(folder: Path, url: str, **options: Any) -> Reading:
    os.environ["TEST_SCIM_TOKEN"] = TOKEN
    given = {"read": "scim", "url": url, "token-from": "env:TEST_SCIM_TOKEN", "page-size": 4, **options}
    section = msgspec.convert(given, ScimSection)
    with ThreadPoolExecutor(1) as workers:
        (reading,) = reader.read(section, Request("cloud", folder, CLOCK, AT, workers))
    return reading


def rows(reading: Reading, table: str = "account") -> dict[str, dict[str, Any]]:
    key = "name" if table == "account" else "account"
    return {row[key]: row for row in reading.tables[table].iter_rows(named=True)}


# a server package that is not ours


@pytest.fixture(scope="module", params=["index", "cursor"])
def foreign(request: pytest.FixtureRequest, tmp_path_factory: pytest.TempPathFactory) -> Iterator[str]:
    """The server, with 23 users and two groups, paging by index or by cursor."""
    folder = tmp_path_factory.mktemp("scim")
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = probe.getsockname()[1]
    words = [str(Path(sys.executable).parent / "scim2-server"), "--port", str(port), "--bearer-token", TOKEN]
    if request.param == "cursor":
        words += ["--service-provider-config", str(_with_cursors(folder))]
    process = subprocess.Popen(words, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    try:
        url = f"http://127.0.0.1:{port}"
        _fill(url)
        yield url
    finally:
        process.terminate()
        process.wait(10)


def _with_cursors(folder: Path) -> Path:
    from importlib.resources import files

    text = files("scim2_server").joinpath("resources/default-service-provider-config.json").read_text("utf-8")
    config = json.loads(text)
    config["pagination"] = {
        "cursor": True,
        "index": True,
        "defaultPaginationMethod": "cursor",
        "defaultPageSize": 5,
        "maxPageSize": 5,
        "cursorTimeout": 600,
    }
    path = folder / "config.json"
    path.write_text(json.dumps(config))
    return path


def _fill(url: str) -> None:
    with httpx.Client(base_url=url, headers={"Authorization": f"Bearer {TOKEN}"}, timeout=30) as client:
        for _ in range(100):
            try:
                client.get("/ServiceProviderConfig").raise_for_status()
                break
            except httpx.TransportError:
                time.sleep(0.1)
        ids = []
        for number in range(23):
            user: dict[str, Any] = {
                "schemas": ["urn:ietf:params:scim:schemas:core:2.0:User", ENTERPRISE],
                "userName": f"u{number:02}",
                "active": number % 5 != 0,
                "displayName": f"User {number}",
                "emails": [
                    {"value": f"u{number}@other.example"},
                    {"value": f"u{number}@gvr.example", "primary": True},
                ],
                "userType": "Employee" if number % 2 else "Robot",
                "roles": [{"value": "fares-admin"}] if number == 3 else [],
                ENTERPRISE: {"employeeNumber": str(100 + number), "department": "Ticketing"},
            }
            if number == 4:
                user[ENTERPRISE]["manager"] = {"value": ids[1]}
            ids.append(client.post("/Users", json=user).raise_for_status().json()["id"])
        inner = {
            "schemas": ["urn:ietf:params:scim:schemas:core:2.0:Group"],
            "displayName": "night",
            "members": [{"value": ids[2], "type": "User"}],
        }
        night = client.post("/Groups", json=inner).raise_for_status().json()["id"]
        outer = {
            **inner,
            "displayName": "admins",
            "members": [{"value": night, "type": "Group"}, {"value": ids[3], "type": "User"}],
        }
        client.post("/Groups", json=outer).raise_for_status()


def test_a_server_that_is_not_ours(foreign: str, tmp_path: Path, request: pytest.FixtureRequest) -> None:
    """Every user once, whichever way the pages go; core and enterprise attributes; groups in groups."""
    reading = read(
        tmp_path,
        foreign,
        **{"user-types": {"Employee": "person"}, "kinds": {"*": "service"}, "privileged-roles": ["*-admin"]},
    )
    found = rows(reading)
    assert sorted(found) == [f"u{number:02}" for number in range(23)]
    assert not reading.incomplete
    with httpx.Client(base_url=foreign, headers={"Authorization": f"Bearer {TOKEN}"}) as client:
        by_cursor = client.get("/Users", params={"cursor": "", "count": "4"}).is_success
    assert by_cursor is (request.node.callspec.params["foreign"] == "cursor")
    row = found["u04"]
    assert (row["display"], row["mail"], row["enabled"]) == ("User 4", "u4@gvr.example", True)
    assert (row["person"], row["unit"], row["manager"], row["kind"]) == ("104", "Ticketing", "u01", "service")
    assert (found["u05"]["enabled"], found["u05"]["kind"]) == (False, "person")
    assert (found["u02"]["groups"], found["u03"]["groups"]) == (["night", "admins"], ["admins"])
    grant = rows(reading, "grant")["u03"]
    assert (grant["role"], grant["privileged"]) == ("fares-admin", True)
    assert "locked" not in reading.supply["account"]


def test_a_wrong_token(foreign: str, tmp_path: Path) -> None:
    """Said, without the token."""
    (tmp_path / "token").write_text("wrong-planted-token")
    with pytest.raises(KeymalletError) as raised:
        read(tmp_path, foreign, **{"token-from": "file:token"})
    assert "does not let the reader in (HTTP 401)" in raised.value.problems[0].message
    assert "planted" not in repr(raised.value.problems)


def test_from_the_service_to_the_verdict(foreign: str, tmp_path: Path) -> None:
    """The installed program; the token is in no file and no output."""
    estate = f"""
organisation = "O"
clock = "UTC"
rulebook = "r.toml"
[source.cloud]
read = "scim"
url = "{foreign}"
token-from = "env:TEST_SCIM_TOKEN"
"""
    book = 'title = "T"\n[rule.on]\ntitle = "On"\nmust = "enabled"\nseverity = "high"\n'
    write(tmp_path, {"estate.toml": estate, "r.toml": book})
    told = run("read", cwd=tmp_path, expect=0, TEST_SCIM_TOKEN=TOKEN).stdout
    assert "read 23 accounts" in told
    judged = run("judge", "--format", "csv", cwd=tmp_path, expect=1).stdout
    assert sum(",breach," in line for line in judged.splitlines()) == 5
    everything = b"".join(path.read_bytes() for path in (tmp_path / "snapshots").rglob("*") if path.is_file())
    assert TOKEN.encode() not in everything and TOKEN not in told + judged
    write(tmp_path, {"estate.toml": estate.replace("TEST_SCIM_TOKEN", "NO_SUCH_NAME")})
    done = run("read", cwd=tmp_path, expect=2)
    assert "there is no NO_SUCH_NAME in the environment" in done.stderr


# a service that misbehaves


@contextmanager
def service(answer: Callable[[str, dict[str, str]], Answer]) -> Iterator[str]:
    """A server that answers by a function of path and parameters."""

    class Handler(BaseHTTPRequestHandler):
        def do_GET(self) -> None:
            parts = urlsplit(self.path)
            status, headers, data = answer(
                parts.path.lstrip("/"),
                {name: each[0] for name, each in parse_qs(parts.query, keep_blank_values=True).items()},
            )
            self.send_response(status)
            cut = headers.pop("Cut", None)
            for name, value in headers.items():
                self.send_header(name, value)
            self.send_header("Content-Length", str(len(data) + (10 if cut else 0)))
            self.end_headers()
            self.wfile.write(data)

        def log_message(self, *words: Any) -> None:
            pass

    server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    try:
        yield f"http://127.0.0.1:{server.server_port}"
    finally:
        server.shutdown()
        server.server_close()


def ok(value: Any) -> Answer:
    return 200, {}, json.dumps(value).encode()


def users(*numbers: int) -> list[dict[str, Any]]:
    return [{"id": str(number), "userName": f"u{number}", "active": True} for number in numbers]


def by_index(
    path: str, asked: dict[str, str], *, total: int = 10, most: int = 3, gone: set[int] = frozenset()
) -> Answer:  # type: ignore[assignment]
    """A service that clamps every page, and may have lost some users on the way."""
    if path != "Users":
        return (404, {}, b"{}") if path == "ServiceProviderConfig" else ok({"totalResults": 0})
    start = int(asked["startIndex"])
    here = [number for number in range(start, min(start + most, total + 1)) if number not in gone]
    return ok(
        {"totalResults": total, "startIndex": start, "itemsPerPage": len(here), "Resources": users(*here)}
    )


def test_the_next_page_follows_from_what_came(tmp_path: Path) -> None:
    """A page smaller than what was asked for is no end."""
    with service(by_index) as url:
        assert len(rows(read(tmp_path, url))) == 10


def test_what_does_not_arrive_is_said(tmp_path: Path) -> None:
    """The count is held against what came; a last page that never has anything new ends it."""
    with service(lambda path, asked: by_index(path, asked, gone={9, 10})) as url:
        reading = read(tmp_path, url)
    assert reading.incomplete == ["users: 8 of 10 arrived"]

    def forever(path: str, asked: dict[str, str]) -> Answer:
        return ok({"totalResults": 10**9, "Resources": users(1, 2)}) if path == "Users" else ok({})

    with service(forever) as url:
        reading = read(tmp_path, url)
    assert len(rows(reading)) == 2
    assert "pages without end" in reading.incomplete[0]
    assert any("came twice" in remark for remark in reading.remarks)


def test_a_busy_service_is_obeyed(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """`Retry-After` in seconds and as a date; a cut connection is tried again; all of it bounded."""
    waited: list[float] = []
    monkeypatch.setattr("tenacity.nap.time.sleep", waited.append)
    later = (datetime.now(UTC) + timedelta(seconds=40)).strftime("%a, %d %b %Y %H:%M:%S GMT")
    script: list[Answer] = [
        (429, {"Retry-After": "7"}, b""),
        (503, {"Retry-After": later}, b""),
        (503, {"Retry-After": "86400"}, b""),
        (200, {"Cut": "yes"}, b'{"totalResu'),
    ]

    def busy(path: str, asked: dict[str, str]) -> Answer:
        return script.pop(0) if path == "Users" and script else by_index(path, asked)

    with service(busy) as url:
        assert len(rows(read(tmp_path, url))) == 10
    assert waited[0] == 7 and 35 < waited[1] <= 40 and waited[2] == 60 and waited[3] < 5
    waited.clear()
    with service(lambda path, asked: (503, {}, b"")) as url, pytest.raises(KeymalletError) as raised:
        read(tmp_path, url)
    assert "stayed busy (HTTP 503) through 6 attempts" in raised.value.problems[0].message
    assert len(waited) == 5


def test_a_service_that_breaks_off_keeps_what_came(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """The first pages are kept, and the reading is incomplete."""
    monkeypatch.setattr("tenacity.nap.time.sleep", lambda seconds: None)

    def breaks(path: str, asked: dict[str, str]) -> Answer:
        return (500, {}, b"") if asked.get("startIndex") == "7" else by_index(path, asked)

    with service(breaks) as url:
        reading = read(tmp_path, url)
    assert len(rows(reading)) == 6
    assert reading.incomplete == ["users: after 6, /Users is answered with HTTP 500"]


ODD_USERS: list[dict[str, Any]] = [
    {
        "ID": "1",
        "UserName": "anna",
        "Active": "TRUE",
        "DisplayName": "Anna Arv",
        "Emails": [{"Value": "b@gvr.example"}, {"Value": "a@gvr.example", "Primary": True}],
        "Roles": [{"display": "fares-admin"}],
        "Meta": {"Created": "2026-01-02T03:04:05+02:00"},
        ENTERPRISE.upper(): {"EmployeeNumber": "17", "Department": "Fares", "Manager": {"$ref": "https://x.example/v2/Users/2"}},
        EXTENSION.title(): {"PasswordChanged": "2026-02-03T04:05:06Z"},
        "urn:example:Extra:User": {"Badge": "B-1"},
    },
    {"id": "2", "userName": "bea", "active": False, "emails": ["bea@gvr.example"], "roles": ["clerk"], "name": "Bea Bo"},
    {"id": "3", "userName": "cai", "active": "perhaps", "emails": [[7]], "roles": [{"type": "x"}], "entitlements": [{}]},
    {"id": "4", "userName": "dee", ENTERPRISE: "none", "groups": [{"value": "g9", "display": "night"}], "x509Certificates": [{}]},
    {"id": "5", "userName": 5},
]  # fmt: skip


def odd(groups: Answer) -> Callable[[str, dict[str, str]], Answer]:
    """A tenant of odd shapes, which takes no list of attributes that names an extension."""

    def answer(path: str, asked: dict[str, str]) -> Answer:
        if path == "Groups":
            return groups
        if path != "Users":
            return 404, {}, b"{}"
        if "urn:" in asked.get("attributes", ""):
            return 400, {}, b'{"detail": "no such attribute"}'
        return ok({"TotalResults": len(ODD_USERS), "resources": ODD_USERS})

    return answer


def test_odd_shapes_are_read_or_counted(tmp_path: Path) -> None:
    """Names in any case, values where others put them; what is not understood is counted, with its place."""
    members = [{"$ref": "../Users/1"}, "2", {"type": "User"}]
    groups = ok({"totalResults": 1, "Resources": [{"id": "g1", "DisplayName": "all", "Members": members}]})
    options = {"facts": {"title": "URN:example:extra:user:badge"}, "privileged-roles": ["*-admin"]}
    with service(odd(groups)) as url:
        reading = read(tmp_path, url, **options)
    found = rows(reading)
    anna, bea, cai, dee = (found[name] for name in ("anna", "bea", "cai", "dee"))
    assert (anna["display"], anna["mail"], anna["enabled"], anna["person"]) == (
        "Anna Arv",
        "a@gvr.example",
        True,
        "17",
    )
    assert (anna["manager"], anna["title"], anna["unit"]) == ("bea", "B-1", "Fares")
    assert anna["created"] == datetime(2026, 1, 2, 1, 4, 5, tzinfo=UTC)
    assert anna["password-changed"] == datetime(2026, 2, 3, 4, 5, 6, tzinfo=UTC)
    assert (bea["mail"], bea["display"], bea["enabled"]) == ("bea@gvr.example", "Bea Bo", False)
    assert (anna["groups"], bea["groups"], dee["groups"]) == (["all"], ["all"], ["night"])
    assert {name: row["role"] for name, row in rows(reading, "grant").items()} == {
        "anna": "fares-admin",
        "bea": "clerk",
    }
    assert set(cai["unread"]) == {"enabled", "entitlements", "mail"}
    assert set(dee["unread"]) == {"person", "unit", "manager"}
    refused = {name: [each.reason for each in taken.refusals] for name, taken in reading.intake.items()}
    assert refused["grant"] == ["cai: a role without value and display"]
    assert refused["key"] == ["dee: a certificate without a value"]
    assert refused["account"] == ["group all: a member without value and $ref", "user 5: it has no userName"]
    assert any("takes no list of attributes" in remark for remark in reading.remarks)
    assert not reading.incomplete


def test_groups_that_only_users_tell_of(tmp_path: Path) -> None:
    """No /Groups: what users say of themselves; who says nothing is in none."""
    with service(odd((404, {}, b"{}"))) as url:
        reading = read(tmp_path, url)
    assert {name: row["groups"] for name, row in rows(reading).items()} == {
        "anna": [], "bea": [], "cai": [], "dee": ["night"],
    }  # fmt: skip
    assert reading.supply["account"]["groups"] == "the users' own groups"


@pytest.mark.parametrize(("status", "incomplete"), [(404, False), (501, False), (403, True)])
def test_without_groups_who_is_in_which_is_unknown(tmp_path: Path, status: int, incomplete: bool) -> None:
    """A service may have none, or not show them; users are read all the same."""

    def answer(path: str, asked: dict[str, str]) -> Answer:
        return (status, {}, b"{}") if path == "Groups" else by_index(path, asked)

    with service(answer) as url:
        reading = read(tmp_path, url)
    assert len(rows(reading)) == 10 and "groups" not in reading.supply["account"]
    assert bool(reading.incomplete) is incomplete
    assert any("who is in which is unknown" in remark for remark in reading.remarks) is not incomplete


@pytest.mark.parametrize(
    ("data", "told"),
    [
        (b"<html>sign in</html>", "the answer is a web page"),
        (b"[" * 100_000, "not to be understood as JSON"),
        (b'{"a":' * 100_000, "not to be understood as JSON"),
        (b"\xff\xfe", "not to be understood as JSON"),
        (b"[]", "the answer is no SCIM message"),
        (b'{"totalResults": 0, "Resources": []}', "shows no user"),
        (b'{"totalResults": "x", "Resources": {"a": 1}}', "shows no user"),
        (b'{"Resources": [1, "a", null]}', "shows no user"),
    ],
)
def test_answers_that_are_no_answers(tmp_path: Path, data: bytes, told: str) -> None:
    """A proxy's page, JSON without end, bytes, and messages of another shape."""
    with service(lambda path, asked: (200, {}, data)) as url, pytest.raises(KeymalletError) as raised:
        read(tmp_path, url)
    assert told in raised.value.problems[0].message


def test_a_page_without_bound_is_not_taken(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """A line of two gigabytes does not go into memory."""
    monkeypatch.setattr(scim_service, "_LARGEST_PAGE", 1 << 20)
    page = b'{"x": "' + b"a" * (3 << 20)
    with service(lambda path, asked: (200, {}, page)) as url, pytest.raises(KeymalletError) as raised:
        read(tmp_path, url)
    assert "larger than 1 MB" in raised.value.problems[0].message


@pytest.mark.parametrize(
    ("options", "told"),
    [
        ({"url": "ftp://cloud.gvr.example"}, "no address of a service"),
        ({"url": "http://cloud.gvr.example"}, "not sent in the clear"),
        ({"url": "http://127.0.0.1:1"}, "cannot be reached"),
        ({"token-from": TOKEN}, "no pointer to a secret"),
        ({"ca-file": "gone.pem"}, "there is no such file"),
        ({"facts": {"last-sing-in": "x"}}, 'no column "last-sing-in"'),
    ],
)
def test_what_cannot_work_is_said(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, options: dict[str, Any], told: str
) -> None:
    """In our own form, with no secret in it."""
    monkeypatch.setattr("tenacity.nap.time.sleep", lambda seconds: None)
    with pytest.raises(KeymalletError) as raised:
        read(tmp_path, **{"url": "http://127.0.0.1:1", **options})
    assert told in raised.value.problems[0].message
    assert TOKEN not in repr(raised.value.problems)


# what users say


def interpreted(
    *found: dict[str, Any], groups: list[dict[str, Any]] | None = None, **options: Any
) -> Reading:
    section = msgspec.convert({"read": "scim", "url": "https://x.example", **options}, ScimSection)
    reading = Reading("cloud")
    tenant = Tenant(section, reading, groups or [])
    for user in found:
        tenant.add([user])
    tenant.enter()
    return reading


def test_our_own_extension(tmp_path: Path) -> None:
    """Facts by their names in camel case, and lists of factors, keys and elevations."""
    own = {
        "lastSignIn": "2026-11-20T08:00:00.123Z",
        "locked": True,
        "lockCause": "failed-attempts",
        "failedAttempts": 3,
        "passwordChanged": "2026-08-01T00:00:00+02:00",
        "factors": [{"kind": "passkey", "state": "active", "registered": "2026-01-01T00:00:00Z"}],
        "keys": [{"kind": "api-key", "key": "k1", "state": "active", "expires": "soon"}],
        "elevations": [],
    }
    reading = interpreted({"id": "1", "userName": "a", EXTENSION: own}, {"id": "2", "userName": "b"})
    row = rows(reading)["a"]
    assert row["last-sign-in"] == datetime(2026, 11, 20, 8, 0, 0, 123_000, tzinfo=UTC)
    assert (row["locked"], row["lock-cause"], row["failed-attempts"]) == (True, "failed-attempts", 3)
    assert rows(reading, "factor")["a"]["kind"] == "passkey"
    assert rows(reading, "key")["a"]["unread"] == ["expires"]
    assert reading.tables["elevation"].height == 0 and "elevation" in reading.supply
    assert "grant" not in reading.supply


def test_extensions_of_others_by_path() -> None:
    """As the estate maps them; one that nobody maps is named."""
    urn = "urn:example:ext:2.0:User"
    found = {
        "id": "1",
        "userName": "a",
        urn: {"activity": {"last": "2026-11-20T08:00:00Z"}},
        "urn:example:other": {},
    }
    reading = interpreted(
        found,
        facts={
            "last-sign-in": f"{urn}:activity.last",
            "owner": "urn:example:gone:x",
            "title": "name.honorificPrefix",
        },
    )
    assert rows(reading)["a"]["last-sign-in"] == datetime(2026, 11, 20, 8, tzinfo=UTC)
    assert "owner" not in reading.supply["account"]
    assert any("not read: urn:example:other;" in remark for remark in reading.remarks)


def test_one_odd_attribute_costs_its_own_fact() -> None:
    """Nothing else of the user, and nobody else."""
    odd = {
        "id": 7,
        "userName": "a",
        "active": "maybe",
        "emails": "x@gvr.example",
        "name": [],
        "meta": "m",
        "roles": "r",
        "x509Certificates": [{"value": "AAAA"}],
        ENTERPRISE: None,
        EXTENSION: [1],
    }
    reading = interpreted(
        odd,
        {"userName": ""},
        {"id": "2"},
        {"id": "3", "userName": "a"},
        {"id": "4", "userName": "b", "active": True},
    )
    found = rows(reading)
    assert found.keys() == {"a", "b"}
    assert (found["a"]["enabled"], found["a"]["unread"]) == (None, ["enabled"])
    assert reading.intake["account"].refused == 4 and reading.intake["key"].refused == 1
    assert rows(reading, "grant")["a"]["privileged"] is None


def test_users_are_held_as_columns(monkeypatch: pytest.MonkeyPatch) -> None:
    """However few rows are held at a time, what comes out is the same; managers are found across them."""
    found = [
        {
            "id": f"{n}",
            "userName": f"u{n}",
            "roles": ["r"],
            ENTERPRISE: {"manager": {"value": f"{n + 1}", "displayName": "M"}},
        }
        for n in range(10)
    ]
    whole = interpreted(*found)
    monkeypatch.setattr("keymallet.sources.scim.users._ROWS_HELD", 3)
    pieces = interpreted(*found)
    for name, frame in whole.tables.items():
        assert pieces.tables[name].equals(frame)
    assert rows(pieces)["u3"]["manager"] == "u4" and rows(pieces)["u9"]["manager"] == "M"


def test_groups_in_a_circle() -> None:
    """They end."""
    groups = [
        {
            "id": f"g{n}",
            "displayName": f"G{n}",
            "members": [{"value": f"g{(n + 1) % 50}"}, {"value": "1"}, "odd"],
        }
        for n in range(50)
    ]
    assert len(rows(interpreted({"id": "1", "userName": "a"}, groups=groups))["a"]["groups"]) == 50


JSON = st.recursive(
    st.none() | st.booleans() | st.integers() | st.floats(allow_nan=False) | st.text(max_size=8),
    lambda inner: (
        st.lists(inner, max_size=3)
        | st.dictionaries(
            st.sampled_from(["value", "primary", "created", "manager", "locked", "factors", "kind"]),
            inner,
            max_size=3,
        )
    ),
    max_leaves=8,
)
NAMES = [
    "id",
    "userName",
    "active",
    "emails",
    "name",
    "meta",
    "title",
    "roles",
    "entitlements",
    "x509Certificates",
    "userType",
    "displayName",
    ENTERPRISE,
    EXTENSION,
]


@examples(200)
@given(st.lists(st.dictionaries(st.sampled_from(NAMES), JSON, max_size=6), max_size=3))
def test_any_users_are_read_or_counted(found: list[dict[str, Any]]) -> None:
    """Never a traceback; each user is an account or refused."""
    reading = interpreted(*found, {"userName": "last"})
    intake = reading.intake["account"]
    assert intake.read + intake.refused == len(found) + 1
