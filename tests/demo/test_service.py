"""The stand-in cloud directory: the whole tenant over SCIM, well and badly mannered; the schema it follows."""

from __future__ import annotations

import json
import subprocess
import threading
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from datetime import timedelta
from pathlib import Path
from typing import Any

import msgspec
import pytest
from polars.testing import assert_frame_equal

from keymallet.core.base.problems import KeymalletError
from keymallet.core.facts import scim_extension
from keymallet.core.facts.declaration import PERSON
from keymallet.core.facts.reading import Reading
from keymallet.demo.certificates import EXPIRED, GOOD, OTHER_HOST, make_certificate
from keymallet.demo.directory import railway_directory
from keymallet.demo.railway import in_week, write_estate
from keymallet.demo.service import TOKEN, Manners, serve
from keymallet.demo.tenant import tenant
from keymallet.demo.weeks import LAST
from keymallet.sources.estate import read_estate
from keymallet.sources.reading import read_sources
from keymallet.sources.request import Request
from keymallet.sources.scim import reader
from keymallet.sources.sections import ScimSection
from tests.support import AT, CLOCK, PROGRAM, run, write

SCHEMA = Path(__file__).parents[2] / "docs" / "scim-extension.schema.json"


@contextmanager
def served(certificate: Path | None = None, **manners: Any) -> Iterator[str]:
    server = serve(Manners(**manners), 0, certificate)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    try:
        yield f"http{'s' if certificate else ''}://127.0.0.1:{server.server_port}"
    finally:
        server.shutdown()
        server.server_close()


def read(folder: Path, url: str, token: str = TOKEN, **options: Any) -> Reading:
    (folder / "token").write_text(token)
    given = {"read": "scim", "url": url, "token-from": "file:token", **options}
    section = msgspec.convert(given, ScimSection)
    with ThreadPoolExecutor(1) as workers:
        (reading,) = reader.read(section, Request("cloud", folder, CLOCK, AT, workers))
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


def test_what_is_in_force_comes_over(tmp_path: Path) -> None:
    """Gates and settings, which are resources of our own: a rule can be for each of them."""
    with served() as url:
        reading = read(tmp_path, url)
    gates = {row["gate"]: row for row in reading.tables["gate"].iter_rows(named=True)}
    assert gates["everybody"]["leaves-out"] == ["emergency-1", "emergency-2", "old-mail-relay"]
    told = (gates["administrators"]["state"], gates["administrators"]["asks-for"])
    assert told == ("on-trial", ["phishing-resistant"])
    (setting,) = reading.tables["setting"].iter_rows(named=True)
    assert (setting["lock-for"], setting["min-length"]) == (timedelta(minutes=15), 14)
    assert not reading.remarks


def test_what_the_service_says_of_its_schemas_is_looked_at(tmp_path: Path) -> None:
    """A path that leads nowhere is found, with the nearest that does."""
    mapped = {
        "last-sign-in": f"{scim_extension.URN}:lastSignInn",
        "unit": "departmant",
        "title": "urn:x:1.0:User:y",
    }
    with served() as url:
        told = read(tmp_path, url, facts=mapped).remarks
    assert told[:3] == [
        'facts: last-sign-in: the service\'s schema has no attribute lastSignInn; did you mean "lastSignIn"?',
        "facts: unit: the service's schema has no attribute departmant",
        "facts: title: the service's schemas hold no urn:x:1.0:User:y",
    ]


EMPLOYMENT = "urn:gvr:scim:schemas:extension:employment:1.0:User"
DAYS = {"joins": f"{EMPLOYMENT}:firstDay", "leaves": f"{EMPLOYMENT}:lastDay", "status": f"{EMPLOYMENT}:state"}


def test_a_roster_over_scim_is_the_one_of_the_export(tmp_path: Path) -> None:
    """The same people with the same days, managers by number; no accounts."""
    contracts = {"permanent": "staff", "contract": "contractor", "agency": "external"}
    with served() as url:
        reading = read(
            tmp_path, f"{url}/staff", roster=True, facts=DAYS, contracts=contracts, plain="through"
        )
    assert reading.tables["account"].is_empty() and not reading.incomplete
    write_estate(tmp_path / "railway")
    estate = read_estate(tmp_path / "railway" / "estate.toml")
    (exported,) = read_sources([each for each in estate.sources if each.name == "staff"], estate, AT)
    columns = reading.tables["person"].columns
    assert set(columns) == set(PERSON.names)
    assert_frame_equal(reading.tables["person"].select(columns), exported.tables["person"].select(columns))


def test_a_plain_last_day_has_to_be_explained(tmp_path: Path) -> None:
    """Else it is not read: a day more or less decides who has left."""
    with served() as url:
        reading = read(tmp_path, f"{url}/staff", roster=True, facts=DAYS)
    intake = reading.intake["person"]
    given = [person for person in in_week(LAST).staff if person.leaves]
    assert intake.unreadable == len(given) > 60
    assert reading.tables["person"]["leaves"].null_count() == reading.tables["person"].height
    assert "does it still count? plain in the estate" in intake.unreadable_cells[0].reason


@pytest.mark.parametrize(
    ("kind", "told"),
    [
        (GOOD, ""),
        (EXPIRED, "certificate has expired"),
        (OTHER_HOST, "certificate is not valid for '127.0.0.1'"),
    ],
)
def test_certificates_are_looked_at(tmp_path: Path, kind: str, told: str) -> None:
    """One that ended, one of another host: refused, with no token sent to whoever it is."""
    signer, certificate = make_certificate(tmp_path, kind)
    with served(certificate) as url:
        if not told:
            assert not read(tmp_path, url, **{"ca-file": signer.name}).incomplete
            return
        with pytest.raises(KeymalletError) as raised:
            read(tmp_path, url, **{"ca-file": signer.name})
        assert told in raised.value.problems[0].message and TOKEN not in repr(raised.value.problems)
        unverified = read(tmp_path, url, **{"verify-certificate": False})
        assert "was not verified, as the estate says" in unverified.remarks[0]


def test_another_token_is_refused(tmp_path: Path) -> None:
    """And what it was is not told."""
    with served() as url, pytest.raises(KeymalletError) as raised:
        read(tmp_path, url, "planted")
    assert "the token is not the one of this service" in raised.value.problems[0].message
    assert "planted" not in repr(raised.value.problems)


def test_a_token_that_runs_out_meanwhile(tmp_path: Path) -> None:
    """What came before stays; that the rest did not is said."""
    with served(token_for=7) as url:
        reading = read(tmp_path, url)
    assert 0 < reading.tables["account"].height < len(railway_directory().accounts)
    assert "does not let the reader in (HTTP 401)" in reading.incomplete[0]


def test_the_schema_in_the_docs_is_the_extensions() -> None:
    """Made from the one declaration of facts, like the dictionary."""
    assert json.loads(SCHEMA.read_text("utf-8")) == scim_extension.json_schema()
    assert scim_extension.camel("last-sign-in") == "lastSignIn"


def test_the_tenant_follows_the_schema() -> None:
    """Each user's extension holds only what the schema knows, of the types it names."""
    schema = scim_extension.json_schema()
    users, groups = tenant()
    assert len(users) > 400 and len(groups) > 5
    types: dict[str, Any] = {"boolean": bool, "integer": int, "string": str, "array": list}
    for user in users:
        own = user[scim_extension.URN]
        for name, value in own.items():
            told = schema["properties"][name]
            assert isinstance(value, types[told["type"]])
            assert value in told.get("enum", [value])
            if name in scim_extension.LISTS:
                known = told["items"]["properties"]
                assert all(set(member) <= set(known) for member in value)


def test_served_by_the_program(tmp_path: Path) -> None:
    """It says what to write in an estate file; reading then works, over TLS and tied to people."""
    with subprocess.Popen(
        [str(PROGRAM), "demo", "--serve", "--tls", "good"], stdout=subprocess.PIPE, text=True, cwd=tmp_path
    ) as process:
        try:
            assert process.stdout is not None
            told = [process.stdout.readline()]
            while not told[-1].startswith("and in the shell"):
                told.append(process.stdout.readline())
            section = "".join(line for line in told if line.startswith("  "))
            head = 'organisation = "O"\nclock = "UTC"\nrulebook = "r.toml"\n'
            write(tmp_path, {"estate.toml": head + section})
            name, _, token = told[-1].strip().rpartition(" ")[2].partition("=")
            notes = run("read", cwd=tmp_path, expect=0, **{name: token}).stdout
            assert f"{len(railway_directory().accounts)} accounts" in notes
            assert "tied to people: 372 by number" in notes and "read 376 people" in notes
            (folder,) = {line.partition('"')[2].rpartition("/")[0] for line in told if "ca-file" in line}
        finally:
            process.terminate()
            process.wait(10)
    assert not Path(folder).exists()
    assert "cannot be used" in run("demo", "--serve", "--port", "99999", cwd=tmp_path, expect=2).stderr
