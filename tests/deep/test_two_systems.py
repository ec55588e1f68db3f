"""One person with an account in a real directory and one in a real SCIM service: told as one, and where they differ."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest

from tests.deep.directories import BASE, ROOT_PASSWORD, LockServer
from tests.deep.test_scim_services import another_make
from tests.sources.scim.test_scim import TOKEN
from tests.support import run_installed, write

__all__ = ["another_make"]
pytestmark = pytest.mark.deep
BOOK = """
title = "T"
[rule.same]
title = "Both systems say the same"
who = "source = 'directory'"
must = "length(twin-differs) = 0 and length(no-twin-in) = 0"
severity = "high"
[rule.one]
title = "Nobody is on in one and off in another"
each = "person"
must = "not (some account (enabled) and some account (not enabled))"
severity = "high"
"""


@pytest.fixture(scope="module")
def directory(tmp_path_factory: pytest.TempPathFactory) -> Iterator[LockServer]:
    server = LockServer(tmp_path_factory.mktemp("two-systems"))
    try:
        yield server
    finally:
        server.stop()


def test_one_person_in_two_systems(directory: LockServer, another_make: str, tmp_path: Path) -> None:
    """Tied by number; u00005 is off in the service, u00006 in the directory, u99999 only there."""
    for number in (3, 5, 6):
        directory.person(f"U{number:05}", employeeNumber=str(number))
    directory.person("u99999", employeeNumber="99999")
    directory.set(f"uid=U00006,{directory.people}", nsAccountLock="true")
    estate = f"""
organisation = "Observatory"
clock = "UTC"
rulebook = "book.toml"
[source.directory]
read = "ldap"
url = "{directory.url}"
base = "{BASE}"
bind-dn = "{directory.root}"
password-from = "env:TEST_ROOT"
[source.service]
read = "scim"
url = "{another_make}"
token-from = "env:TEST_TOKEN"
[source.staff]
read = "csv"
map = "staff.toml"
files = {{ person = "staff.csv" }}
[[pair]]
sources = ["directory", "service"]
ignore-case = true
facts = ["enabled"]
"""
    staff = "Number,Name\n" + "".join(f"{number},P{number}\n" for number in (3, 5, 6, 99999))
    mapped = 'title = "S"\n[person.columns]\nperson = "Number"\nname = "Name"\n'
    write(tmp_path, {"estate.toml": estate, "book.toml": BOOK, "staff.csv": staff, "staff.toml": mapped})
    secrets = {"TEST_ROOT": ROOT_PASSWORD, "TEST_TOKEN": TOKEN}
    run_installed("read", cwd=tmp_path, **secrets)
    told = run_installed("judge", "--format", "csv", cwd=tmp_path, expect=1).stdout.splitlines()
    found = [line.split(",") for line in told if ",breach," in line]
    breaches = {(words[0], words[5] or words[4]) for words in found}
    assert {account for rule, account in breaches if rule == "same"} == {
        "directory/U00005", "directory/U00006", "directory/u99999",
    }  # fmt: skip
    assert {person for rule, person in breaches if rule == "one"} == {"5 P5", "6 P6"}
