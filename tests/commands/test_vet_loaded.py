"""A batch loaded by the systems' own means, some rows failing on purpose, then held against what is there."""

from __future__ import annotations

import csv
import io
import json
import subprocess
import threading
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import httpx
import pytest

from keymallet.demo.service import TOKEN, Manners, serve
from tests.oracles import needs_root, program
from tests.sources.directory.support import BASE, Server, entry, person
from tests.sources.host.test_made_by_the_system import HASH, Machine
from tests.support import run, write

LONG = "d" * 33
"""A login name that no host takes."""
BOOK = 'title = "New"\ninclude = ["new-accounts"]\n'


def arrivals(folder: Path, *words: str, expect: int) -> tuple[dict[str, set[str]], list[dict[str, Any]]]:
    """What became of the accounts by name, and each difference."""
    told = json.loads(run("vet", *words, "--loaded", "--format", "json", cwd=folder, expect=expect).stdout)
    became: dict[str, set[str]] = {}
    for row in told["rows"]:
        became.setdefault(row["result"], set()).add(row["name"])
    return became, told["rows"]


@pytest.fixture(scope="module")
def server(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Server]:
    """A directory with one person and a group."""
    found = Server(tmp_path_factory.mktemp("slapd"))
    try:
        tops = entry(BASE, objectClass=["dcObject", "organization"], dc="gvr", o="Valley")
        tops += "".join(
            entry(f"ou={each},{BASE}", objectClass=["organizationalUnit"], ou=each)
            for each in ("people", "groups")
        )
        tops += entry(
            f"cn=reader,{BASE}", objectClass=["organizationalRole", "simpleSecurityObject"], cn="reader",
            userPassword="reader-of-the-valley",
        )  # fmt: skip
        tops += person("old.hand", mail="old.hand@valley.example", ou="Track")
        tops += entry(f"cn=crew,ou=groups,{BASE}", objectClass=["groupOfNames"], cn="crew",
                      member=f"uid=old.hand,ou=people,{BASE}")  # fmt: skip
        found.add(tops)
        yield found
    finally:
        found.stop()


def added(uid: str, *lines: str, sn: bool = True) -> str:
    """A record that adds an account; without `sn` the server refuses it."""
    told = [f"dn: uid={uid},ou=people,{BASE}", "changetype: add", "objectClass: inetOrgPerson", f"uid: {uid}"]
    told += [f"cn: {uid}", *(["sn: x"] if sn else []), *lines, "userPassword: kX9#fPq2mL7wZt"]
    return "\n".join(told) + "\n\n"


def test_a_batch_loaded_into_a_real_directory(server: Server, tmp_path: Path) -> None:
    """`ldapadd -c` takes two rows, refuses two; afterwards one is changed by hand, and one is there besides."""
    estate = f"""
organisation = "Valley"
clock = "UTC"
rulebook = "book.toml"
[source.tree]
read = "ldap"
url = "{server.url}"
base = "{BASE}"
bind-dn = "cn=reader,{BASE}"
password-from = "file:secret"
kinds = {{ "*" = "person" }}
"""
    crew = f"dn: cn=crew,ou=groups,{BASE}\nchangetype: modify\nadd: member\nmember: uid=b.new,ou=people,{BASE}\n-\n\n"
    batch = (
        added("a.new", "mail: a.new@valley.example", "ou: Track")
        + added("b.new", "mail: b.new@valley.example", "ou: Track", f"manager: uid=old.hand,ou=people,{BASE}")
        + added("c.new", "mail: c.new@valley.example", sn=False)
        + added("old.hand", "mail: second.hand@valley.example", "ou: Track")
        + crew
    )
    write(
        tmp_path,
        {"estate.toml": estate, "book.toml": BOOK, "secret": "reader-of-the-valley", "b.ldif": batch},
    )
    run("read", cwd=tmp_path)
    before = run("vet", "b.ldif", "--format", "csv", cwd=tmp_path, expect=1).stdout
    found = {
        (row["name"], row["rule"])
        for row in csv.DictReader(io.StringIO(before))
        if row["verdict"] == "breach"
    }
    assert ("old.hand", "new-name-free") in found and ("b.new", "new-groups-exist") not in found
    assert arrivals(tmp_path, "b.ldif", expect=1)[0]["missing"] == {"a.new", "b.new", "c.new"}
    words = [program("ldapadd"), "-c", "-x", "-H", server.url, "-D", server.root, "-w", server.password]
    done = subprocess.run(words, input=batch, capture_output=True, text=True, check=False)
    assert (
        done.returncode != 0 and "Object class violation" in done.stderr and "Already exists" in done.stderr
    )
    server.modify(f"dn: uid=a.new,ou=people,{BASE}\nchangetype: modify\nreplace: ou\nou: Stations\n")
    server.add(person("stowaway"))
    run("read", cwd=tmp_path)
    became, rows = arrivals(tmp_path, "b.ldif", "--fixed", "again.ldif", expect=1)
    assert became == {
        "as asked": {"b.new"},
        "differing": {"a.new", "old.hand"},
        "missing": {"c.new"},
        "not asked for": {"stowaway"},
    }
    told = {(row["name"], row["fact"], row["asked"], row["found"]) for row in rows if row["fact"]}
    assert told == {
        ("a.new", "unit", "Track", "Stations"),
        ("old.hand", "has-password", "yes", "no"),
        ("old.hand", "mail", "second.hand@valley.example", "old.hand@valley.example"),
    }
    again = (tmp_path / "again.ldif").read_text()
    assert [line for line in again.splitlines() if line.startswith("dn: ")] == [
        f"dn: uid={uid},ou=people,{BASE}" for uid in ("a.new", "c.new", "old.hand")
    ]
    assert "kX9#fPq2mL7wZt" not in json.dumps(rows)


def test_a_batch_sent_to_the_stand_in_service(tmp_path: Path) -> None:
    """A bulk request of which one user is refused, one has a name that is taken: each is told."""
    service = serve(Manners(), 0)
    threading.Thread(target=service.serve_forever, daemon=True).start()
    url = f"http://127.0.0.1:{service.server_address[1]}"
    try:
        _into_a_service(tmp_path, url)
    finally:
        service.shutdown()
        service.server_close()


def _into_a_service(folder: Path, url: str) -> None:
    estate = f"""
organisation = "Valley"
clock = "UTC"
rulebook = "book.toml"
[source.cloud]
read = "scim"
url = "{url}"
token-from = "env:TOKEN"
kinds = {{ "*" = "person" }}
"""
    write(folder, {"estate.toml": estate, "book.toml": BOOK})
    run("read", cwd=folder, TOKEN=TOKEN)
    taken = run(
        "who", "enabled", "--columns", "name", "--format", "csv", cwd=folder, expect=0
    ).stdout.splitlines()[5]
    taken = taken.split(",")[-1]
    users = [
        {"userName": "a.new", "displayName": "Anna New", "active": True, "password": "kX9#fPq2mL7wZt"},
        {"userName": "B.New", "displayName": "Berta New", "active": True},
        {"userName": taken, "displayName": "Somebody Else", "active": True},
        {"displayName": "Nobody"},
    ]
    operations = [
        {"method": "POST", "path": "/Users", "bulkId": str(number), "data": user}
        for number, user in enumerate(users)
    ]
    bulk = {"schemas": ["urn:ietf:params:scim:api:messages:2.0:BulkRequest"], "Operations": operations}
    write(folder, {"b.json": json.dumps(bulk, indent=1)})
    headers = {"Authorization": f"Bearer {TOKEN}"}
    answer = httpx.post(f"{url}/Bulk", json=bulk, headers=headers).json()
    assert [each["status"] for each in answer["Operations"]] == ["201", "201", "409", "400"]
    run("read", cwd=folder, TOKEN=TOKEN)
    became, rows = arrivals(folder, "b.json", "--fixed", "again.json", expect=1)
    assert became["as asked"] == {"a.new"} and became["missing"] == {None}
    assert became["differing"] == {"B.New", taken}
    told = {(row["name"], row["fact"], row["asked"], row["found"]) for row in rows if row["fact"] == "name"}
    assert told == {("B.New", "name", "B.New", "b.new")}
    again = json.loads((folder / "again.json").read_text())
    assert [each["bulkId"] for each in again["Operations"]] == ["1", "2", "3"]


def test_a_batch_made_on_a_host(tmp_path: Path) -> None:
    """By the real `newusers` and `useradd`: one in another group than asked, one never made."""
    needs_root("newusers --root")
    machine = Machine(tmp_path)
    estate = """
organisation = "Valley"
clock = "UTC"
rulebook = "book.toml"
[source.gate]
read = "host"
folder = "h"
kinds = { "*" = "person" }
"""
    table = """
[target]
source = "gate"
longest = { name = 32 }
characters = { name = '[a-z_][a-z0-9_-]*' }
[account.columns]
name = "login"
display = "name"
ends = { from = "end", plain = "until" }
groups = "groups"
interactive = { always = true }
[planned.columns]
account = "login"
password = "password"
"""
    batch = (
        "login,name,end,groups,password\nanna,Anna Arv,2027-03-31,sudo,kX9#fPq2mL7w\n"
        f"berta,Berta Bell,2027-03-31,sudo,wZ4%tRq8nB2x\ncilla,Cilla Dow,,,mP5=hJk3vC9s\n{LONG},Dora Elm,,,aB3xKq9tRw7m\n"
    )
    write(tmp_path, {"estate.toml": estate, "book.toml": BOOK, "b.csv": batch, "m.toml": table})
    run("read", cwd=tmp_path)
    looked = run("vet", "b.csv", "--map", "m.toml", "--format", "csv", cwd=tmp_path, expect=1).stdout
    assert (LONG, "new-taken-as-written") in {
        (row["name"], row["rule"]) for row in csv.DictReader(io.StringIO(looked))
    }
    line = "cilla:mP5=hJk3vC9s:::Cilla Dow:/home/cilla:/bin/bash\n"
    # Inside a root of its own it finds no PAM: it makes the account, and cannot set the password.
    words = [program("newusers"), "--root", str(machine.root)]
    made = subprocess.run(words, input=line, capture_output=True, text=True, check=False)
    assert made.returncode != 0 and "password not changed" in made.stderr
    machine.by_prefix(
        "useradd", "-p", HASH, "-c", "Anna Arv", "-s", "/bin/bash", "-e", "2027-03-31", "-G", "sudo", "anna"
    )
    machine.by_prefix(
        "useradd", "-p", HASH, "-c", "Berta Bell", "-s", "/bin/bash", "-e", "2027-04-30", "berta"
    )
    refused = subprocess.run(
        [program("useradd"), "--prefix", str(machine.root), LONG], capture_output=True, check=False
    )
    assert refused.returncode != 0
    run("read", cwd=tmp_path)
    became, rows = arrivals(tmp_path, "b.csv", "--map", "m.toml", expect=1)
    assert became == {"as asked": {"anna"}, "differing": {"berta", "cilla"}, "missing": {LONG}}
    assert [(row["fact"], row["cells"]) for row in rows if row["name"] == "cilla"] == [
        ("has-password", ["password"])
    ]
    told = {(row["fact"], row["asked"], row["found"]) for row in rows if row["name"] == "berta"}
    assert ("ends", "2027-03-31", "2027-04-30") in told
    assert {fact for fact, _, _ in told} == {"ends", "groups"}
