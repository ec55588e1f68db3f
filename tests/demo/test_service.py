"""The stand-in cloud directory: the whole tenant over SCIM, well and badly mannered; the schema it follows."""

from __future__ import annotations

import json
import subprocess
import threading
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import msgspec
import pytest

from keymallet.core import extension
from keymallet.core.problems import KeymalletError
from keymallet.core.reading import Reading
from keymallet.demo.accounts import railway_directory
from keymallet.demo.service import TOKEN, Manners, serve
from keymallet.demo.tenant import tenant
from keymallet.sources import scim
from keymallet.sources.request import Request
from keymallet.sources.sections import ScimSection
from tests.support import AT, CLOCK, PROGRAM, run, write

SCHEMA = Path(__file__).parents[2] / "docs" / "scim-extension.schema.json"


@contextmanager
def served(**manners: Any) -> Iterator[str]:
    server = serve(Manners(**manners), 0)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    try:
        yield f"http://127.0.0.1:{server.server_port}"
    finally:
        server.shutdown()
        server.server_close()


def read(folder: Path, url: str, token: str = TOKEN) -> Reading:
    (folder / "token").write_text(token)
    section = msgspec.convert({"read": "scim", "url": url, "token-from": "file:token"}, ScimSection)
    with ThreadPoolExecutor(1) as workers:
        (reading,) = scim.read(section, Request("cloud", folder, CLOCK, AT, workers))
    return reading


@pytest.mark.parametrize(
    "manners", [{}, {"cursor": True}, {"busy": 30, "cut": 20}], ids=["index", "cursor", "rough"]
)
def test_the_whole_tenant_comes_over(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, manners: dict[str, Any]
) -> None:
    """Every account with its factors, keys and grants, whatever happens on the way."""
    monkeypatch.setattr("tenacity.nap.time.sleep", lambda seconds: None)
    with served(**manners) as url:
        reading = read(tmp_path, url)
    accounts = railway_directory().accounts
    assert not reading.incomplete
    assert sorted(reading.tables["account"]["name"]) == sorted(account.login for account in accounts)
    assert reading.tables["factor"].height == sum(len(account.factors) for account in accounts)
    assert reading.tables["key"].height == sum(len(account.keys) for account in accounts)
    assert reading.tables["grant"].height == sum(len(account.roles) for account in accounts)
    (row,) = (
        reading.tables["account"]
        .filter(reading.tables["account"]["name"] == "emergency-2")
        .iter_rows(named=True)
    )
    assert (row["kind"], row["enabled"], row["locked"], row["unit"]) == ("emergency", True, False, "Offices")


def test_users_that_go_away_meanwhile_are_missed(tmp_path: Path) -> None:
    """Paging by index then skips as many as went: that their number changed says so."""
    with served(changing=True) as url:
        reading = read(tmp_path, url)
    assert reading.tables["account"].height < len(railway_directory().accounts)
    assert "some may be missing" in reading.incomplete[0]


def test_another_token_is_refused(tmp_path: Path) -> None:
    """And what it was is not told."""
    with served() as url, pytest.raises(KeymalletError) as raised:
        read(tmp_path, url, "planted")
    assert "the token is not the one of this service" in raised.value.problems[0].message
    assert "planted" not in repr(raised.value.problems)


def test_the_schema_in_the_docs_is_the_extensions() -> None:
    """Made from the one declaration of facts, like the dictionary."""
    assert json.loads(SCHEMA.read_text("utf-8")) == extension.json_schema()
    assert extension.camel("last-sign-in") == "lastSignIn"


def test_the_tenant_follows_the_schema() -> None:
    """Each user's extension holds only what the schema knows, of the types it names."""
    schema = extension.json_schema()
    users, groups = tenant()
    assert len(users) > 400 and len(groups) > 5
    types: dict[str, Any] = {"boolean": bool, "integer": int, "string": str, "array": list}
    for user in users:
        own = user[extension.URN]
        for name, value in own.items():
            told = schema["properties"][name]
            assert isinstance(value, types[told["type"]])
            assert value in told.get("enum", [value])
            if name in extension.LISTS:
                known = told["items"]["properties"]
                assert all(set(member) <= set(known) for member in value)


def test_served_by_the_program(tmp_path: Path) -> None:
    """It says what to write in an estate file, and gathering from it then works."""
    with subprocess.Popen(
        [str(PROGRAM), "demo", "--serve"], stdout=subprocess.PIPE, text=True, cwd=tmp_path
    ) as process:
        try:
            assert process.stdout is not None
            told = [process.stdout.readline().strip() for _ in range(7)]
            section = "\n".join(told[2:6])
            head = 'organisation = "O"\nclock = "UTC"\nrulebook = "r.toml"\n'
            write(tmp_path, {"estate.toml": head + section})
            name, _, token = told[6].rpartition(" ")[2].partition("=")
            assert (
                f"read {len(railway_directory().accounts)} accounts"
                in run("gather", cwd=tmp_path, expect=0, **{name: token}).stdout
            )
        finally:
            process.terminate()
    assert "cannot be used" in run("demo", "--serve", "--port", "99999", cwd=tmp_path, expect=2).stderr
