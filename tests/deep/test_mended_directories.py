"""What mend writes for two more directory servers, applied with `ldapmodify`; their answers as the oracle; undone."""

from __future__ import annotations

import os
import subprocess
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from tests.deep.directories import BASE, PASSWORD, ROOT_PASSWORD, ControlServer, DirectoryServer, LockServer
from tests.mended import breaches, rule
from tests.oracles import program
from tests.support import run, write

pytestmark = pytest.mark.deep
BOOK = (
    'title = "Weir"\n'
    + rule("off", "unit = 'open'", "high", "switch-off", who="enabled and unit = 'closed'")
    + rule("old", "age(password-changed) <= 1s", "medium", "change-password", who="unit = 'aged'")
    + rule("power", "not privileged", "high", "remove-grant", each="grant", who="account.unit = 'power'")
)
UNITS = ("closed", "aged", "power", "open")


def _of_lock_server(server: LockServer) -> dict[str, Any]:
    server.set("cn=config", passwordTrackUpdateTime="on")
    people = {unit: server.person(f"{unit} o'brien", ou=unit) for unit in UNITS}
    # Only a change by its holder leaves a date.
    for old, new in ((PASSWORD, f"{PASSWORD}-2"), (f"{PASSWORD}-2", PASSWORD)):
        assert server.takes_password("aged o'brien", old, new)
    for name, lock in (("loud", "FALSE"), ("plain", "false")):
        people[name] = server.person(name, ou="closed", nsAccountLock=lock)
    # From now on: before, it would have asked everybody at the first sign-in.
    server.set("cn=config", passwordMustChange="on")
    server.add(
        f"cn=admins,ou=groups,{BASE}", ["groupOfNames"], cn="admins", member=[people["power"], people["open"]]
    )
    return {"privileged-groups": ["admins"]}


def _of_control_server(server: ControlServer) -> dict[str, Any]:
    people = {unit: server.person(f"{unit} o'brien", department=unit) for unit in UNITS}
    server.person("never", 66048, department="closed")
    server.add(
        f"CN=keepers,CN=Users,{BASE}",
        ["group"],
        sAMAccountName="keepers",
        member=[people["power"], people["open"]],
    )
    return {"privileged-groups": ["keepers"]}


@pytest.fixture(
    scope="module", params=[LockServer, ControlServer], ids=["nsAccountLock", "userAccountControl"]
)
def weir(
    request: pytest.FixtureRequest, tmp_path_factory: pytest.TempPathFactory
) -> Iterator[tuple[DirectoryServer, Path]]:
    server = request.param(tmp_path_factory.mktemp("server"))
    try:
        options = _of_lock_server(server) if isinstance(server, LockServer) else _of_control_server(server)
        folder = tmp_path_factory.mktemp("weir")
        groups = ", ".join(f'"{name}"' for name in options["privileged-groups"])
        estate = (
            'organisation = "Weir"\nclock = "UTC"\nrulebook = "book.toml"\n[source.tree]\nread = "ldap"\n'
            f'url = "{server.url}"\nbase = "{BASE}"\nbind-dn = "{server.root}"\npassword-from = "file:secret"\n'
            f"verify-certificate = false\nprivileged-groups = [{groups}]\n"
        )
        write(folder, {"estate.toml": estate, "book.toml": BOOK, "secret": ROOT_PASSWORD})
        time.sleep(2.1)  # a password of this second is not old yet
        yield server, folder
    finally:
        server.stop()


def modified(server: DirectoryServer, path: Path) -> subprocess.CompletedProcess[str]:
    words = [program("ldapmodify"), "-c", "-x", "-H", server.url, "-D", server.root, "-w", ROOT_PASSWORD]
    environment = {**os.environ, "LDAPTLS_REQCERT": "never"}
    return subprocess.run(
        [*words, "-f", str(path)], capture_output=True, text=True, check=False, env=environment
    )


def test_changes_are_made_and_undone(weir: tuple[DirectoryServer, Path]) -> None:
    """Switched off, asked for a new password, out of the group; then as it was, but for the password's time."""
    server, folder = weir
    assert isinstance(server, LockServer | ControlServer)
    names = [f"{unit} o'brien" for unit in UNITS]
    before = breaches(folder)
    assert {each[0] for each in before} == {"off", "old", "power"}
    assert [server.sign_in(name) for name in names] == ["ok"] * 4
    run("mend", "--all", "--into", "out", "--even-if-it-breaks", cwd=folder)
    done = modified(server, folder / "out/tree.ldif")
    assert done.returncode == 0, done.stderr
    off = "locked" if isinstance(server, LockServer) else "disabled"
    assert [server.sign_in(name) for name in names] == [off, "must change", "ok", "ok"]
    # The password itself is as old as before, until its holder sets a new one.
    assert {each[0] for each in breaches(folder)} <= {"old"}
    done = modified(server, folder / "out/tree.back.ldif")
    assert done.returncode == 0, done.stderr
    assert [server.sign_in(name) for name in names] == ["ok"] * 4 and breaches(folder) == before
    again = modified(server, folder / "out/tree.back.ldif")
    assert again.returncode != 0 and breaches(folder) == before
