"""What mend writes for a directory, applied to a real one with its own tools, read and judged again; and undone."""

from __future__ import annotations

import re
import subprocess
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
from ldap3.utils.dn import escape_rdn

from tests.mended import breaches, rule
from tests.oracles import program
from tests.sources.directory.support import BASE, Server, entry, stamp
from tests.sources.directory.test_server import RELAX, policy
from tests.sources.host.test_ssh import KEY as SSH_KEY
from tests.support import run, write

SCHEMA = """
attributetype ( 1.3.6.1.4.1.24552.500.1.1.1.13 NAME 'sshPublicKey' EQUALITY octetStringMatch
  SYNTAX 1.3.6.1.4.1.1466.115.121.1.40 )
objectclass ( 1.3.6.1.4.1.24552.500.1.1.2.0 NAME 'ldapPublicKey' SUP top AUXILIARY MAY ( sshPublicKey $ uid ) )
"""
PASSWORD = "Long-Enough-4711"
HOSTILE = (
    "plain",
    'o\'brien "the" hook',
    "$(touch pwned)`touch pwned`",
    "-rf",
    " lead and trail ",
    'a,b+c=d;<e>#\\"',
    "line\nbreak: x\ndn: cn=admin",
    "zürich \u202e\u00e9",
    ": < colon",
    "x" * 200,
)
"""Login names that end a line, a name or a word where somebody writes them carelessly."""
BOOK = (
    'title = "Hut"\n'
    + rule("off", "unit = 'open'", "high", "switch-off", who="enabled and unit = 'closed'")
    + rule("old", "age(password-changed) <= 60d", "medium", "change-password", who="unit = 'aged'")
    + rule("power", "account.unit = 'open'", "high", "remove-grant", each="grant", who="privileged")
    + rule("keys", "account.unit != 'keyed'", "low", "revoke-key", each="key", who="state = active")
)
UNITS = ("closed", "aged", "keyed", "power")


def dn_of(uid: str) -> str:
    return f"uid={escape_rdn(uid)},ou=people,{BASE}".replace("\n", "\\0a")


@pytest.fixture(scope="module")
def hut(tmp_path_factory: pytest.TempPathFactory) -> Iterator[tuple[Server, Path]]:
    """A directory in which each hostile name has an account for each kind of change, and one that is left alone."""
    server = Server(tmp_path_factory.mktemp("slapd"), SCHEMA)
    try:
        text = entry(BASE, objectClass=["dcObject", "organization"], dc="gvr", o="Hut")
        for each in ("people", "groups", "policies"):
            text += entry(f"ou={each},{BASE}", objectClass=["organizationalUnit"], ou=each)
        text += entry(f"cn=reader,{BASE}", objectClass=["organizationalRole", "simpleSecurityObject"], cn="reader",
                      userPassword="reader-of-the-hut")  # fmt: skip
        server.add(text)
        server.add(policy("default"))
        names = {f"{name} {unit}" if name.strip() == name else f"{unit}{name}": unit
                 for name in HOSTILE for unit in (*UNITS, "open")}  # fmt: skip
        for uid, unit in names.items():
            more = {"sshPublicKey": f"{SSH_KEY} {uid}"} if unit == "keyed" else {}
            server.add(entry(dn_of(uid), objectClass=["inetOrgPerson", "ldapPublicKey"], uid=uid, cn="x", sn="x",
                             ou=unit, userPassword=PASSWORD, **more))  # fmt: skip
        members = [dn_of(uid) for uid, unit in names.items() if unit in ("power", "open")]
        server.add(
            entry(f"cn=admins,ou=groups,{BASE}", objectClass=["groupOfNames"], cn="admins", member=members)
        )
        old = stamp(datetime.now(UTC) - timedelta(days=80))
        for uid, unit in names.items():
            if unit == "aged":
                change = (
                    entry(dn_of(uid)).rstrip()
                    + f"\nchangetype: modify\nreplace: pwdChangedTime\npwdChangedTime: {old}\n\n"
                )
                server.modify(change, *RELAX)
        folder = tmp_path_factory.mktemp("hut")
        estate = f"""
organisation = "Hut"
clock = "UTC"
rulebook = "book.toml"
[source.tree]
read = "ldap"
url = "{server.url}"
base = "{BASE}"
bind-dn = "cn=reader,{BASE}"
password-from = "file:secret"
default-policy = "cn=default,ou=policies,{BASE}"
privileged-groups = ["admins"]
"""
        write(folder, {"estate.toml": estate, "book.toml": BOOK, "secret": "reader-of-the-hut"})
        yield server, folder
    finally:
        server.stop()


def dump(server: Server) -> list[str]:
    """Everything the directory holds but what it writes down of every change, in an order of its own."""
    words = ("-b", BASE, "-LLL", "-o", "ldif-wrap=no", "*", "+")
    ignored = re.compile(r"entryCSN|modif|contextCSN|authTimestamp|pwdLastSuccess")
    entries = server.tool("ldapsearch", "", *words).split("\n\n")
    return sorted(f"{each.splitlines()[0]} | {line}" for each in entries if each.strip()
                  for line in each.splitlines() if not ignored.match(line))  # fmt: skip


def modified(server: Server, path: Path) -> subprocess.CompletedProcess[str]:
    words = [program("ldapmodify"), "-c", "-x", "-H", server.url, "-D", server.root, "-w", server.password]
    return subprocess.run([*words, "-f", str(path)], capture_output=True, text=True, check=False)


def test_changes_of_a_directory_are_made_and_undone(hut: tuple[Server, Path]) -> None:
    """For every kind of change, with every hostile name: just those, and then as it was."""
    server, folder = hut
    before, stood = breaches(folder), dump(server)
    assert len(before) == len(UNITS) * len(HOSTILE)
    told = run("mend", "--all", "--into", "out", cwd=folder, expect=0).stdout
    # A new password is tried as if it were set already.
    assert f"{len(before)} findings ended · 0 newly broken" in told
    assert sorted(path.name for path in (folder / "out").iterdir()) == [
        "README.md", "tree.back.ldif", "tree.csv", "tree.ldif",
    ]  # fmt: skip
    done = modified(server, folder / "out/tree.ldif")
    assert done.returncode == 0, done.stderr
    changed = dump(server)
    gone, come = set(stood) - set(changed), set(changed) - set(stood)
    # What is gone: a member and what the directory itself tells of it, and a key; what has come: a lock, a demand.
    number = len(HOSTILE)
    assert {line.partition(" | ")[2].partition(":")[0] for line in gone} == {
        "member",
        "memberOf",
        "sshPublicKey",
    }
    assert len(gone) == 3 * number
    assert sorted(line.partition(" | ")[2] for line in come) == (
        ["pwdAccountLockedTime: 000001010000Z"] * number + ["pwdReset: TRUE"] * number
    )
    assert breaches(folder) == {each for each in before if each[0] == "old"}
    assert server.sign_in("plain closed", PASSWORD) == "locked"
    assert server.sign_in("plain aged", PASSWORD) == "must change"
    assert not (folder / "pwned").exists() and not Path("pwned").exists()
    again = modified(server, folder / "out/tree.ldif")
    assert again.returncode != 0 and dump(server) == changed
    assert modified(server, folder / "out/tree.back.ldif").returncode == 0
    assert dump(server) == stood and breaches(folder) == before
    assert server.sign_in("plain closed", PASSWORD) == "ok"


def test_a_new_password_ends_what_it_was_demanded_for(hut: tuple[Server, Path]) -> None:
    """Its holder is asked for one, and sets it."""
    server, folder = hut
    before = breaches(folder)
    run("mend", "--account", "tree/plain aged", "--into", "aged", cwd=folder, expect=0)
    assert modified(server, folder / "aged/tree.ldif").returncode == 0
    assert server.takes_password("plain aged", PASSWORD, "Another-Long-4712")
    assert breaches(folder) == before - {("old", "tree/plain aged", "")}


def test_what_has_changed_meanwhile_is_refused_by_the_directory(hut: tuple[Server, Path]) -> None:
    """Somebody else has locked the account: the record is not taken, whatever stands in it; others are."""
    server, folder = hut
    run("read", cwd=folder)
    run("mend", "--rule", "off", "--into", "late", cwd=folder, expect=0)
    locked = f"{dn_of('-rf closed')}\nchangetype: modify\nadd: pwdAccountLockedTime\npwdAccountLockedTime: {stamp(datetime.now(UTC))}\n"
    server.modify("dn: " + locked, *RELAX)
    stood = dump(server)
    done = modified(server, folder / "late/tree.ldif")
    assert done.returncode != 0
    come = set(dump(server)) - set(stood)
    assert len(come) == len(HOSTILE) - 1 and not any("-rf closed" in line for line in come)
