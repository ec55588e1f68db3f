"""A real directory server: accounts brought into each state by real operations, its answers as the oracle."""

from __future__ import annotations

import contextlib
import os
import socket
import ssl
import threading
import time
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import msgspec
import pytest

from keymallet.core.base.problems import KeymalletError
from keymallet.core.facts.reading import Reading
from keymallet.demo.certificates import EXPIRED, OTHER_HOST, make_certificate
from keymallet.sources.directory import ldap
from keymallet.sources.request import Request
from keymallet.sources.sections import LdapSection
from tests.sources.directory.support import BASE, Server, entry, rows, stamp
from tests.support import CLOCK, run_installed, write

PASSWORD = "planted-Secret-0815"
RELAX = ("-e", "!1.3.6.1.4.1.4203.666.5.12")
STATES = [
    "normal",
    "locked",
    "lock-over",
    "by-hand",
    "reset",
    "expired",
    "graced",
    "graced-out",
    "graced-late",
    "graced-soon",
    "soon",
    "unused",
    "none",
    "loaded",
    "ended",
    "future",
    "idle",
    "strict",
    "open-locked",
    "open-by-hand",
    "open-idle",
    "open-ended",
    "idle-unused",
]


def policy(name: str, **values: Any) -> str:
    usual = {
        "pwdAttribute": "userPassword",
        "pwdLockout": "TRUE",
        "pwdMaxFailure": 3,
        "pwdMustChange": "TRUE",
    }
    usual |= {
        "pwdMaxAge": 90 * 86_400,
        "pwdMinLength": 12,
        "pwdCheckQuality": 1,
        "pwdInHistory": 4,
        "pwdFailureCountInterval": 900,
    }
    return entry(
        f"cn={name},ou=policies,{BASE}", objectClass=["device", "pwdPolicy"], cn=name, **usual, **values
    )


def account(uid: str, **values: Any) -> str:
    given = {"userPassword": PASSWORD, **values}
    given = {name: value for name, value in given.items() if value is not None}
    return entry(
        f"uid={uid},ou=people,{BASE}", objectClass=["inetOrgPerson"], uid=uid, cn=uid.title(), sn=uid, **given
    )


@pytest.fixture(scope="module")
def server(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Server]:
    """The railway's directory, with an account in each state."""
    found = Server(tmp_path_factory.mktemp("slapd"))
    try:
        _fill(found)
        yield found
    finally:
        found.stop()


def _fill(server: Server) -> None:
    tops = entry(BASE, objectClass=["dcObject", "organization"], dc="gvr", o="Gentian Valley Railway")
    tops += "".join(
        entry(f"ou={each},{BASE}", objectClass=["organizationalUnit"], ou=each)
        for each in ("people", "groups", "policies")
    )
    tops += "".join(
        entry(
            f"cn={each},{BASE}",
            objectClass=["organizationalRole", "simpleSecurityObject"],
            cn=each,
            userPassword=PASSWORD,
        )
        for each in ("reader", "narrow")
    )
    server.add(tops)
    server.add(
        policy("default", pwdGraceAuthNLimit=0, pwdLockoutDuration=2)
        + policy("long", pwdLockoutDuration=3600)
    )
    server.add(policy("graced", pwdGraceAuthNLimit=1, pwdLockoutDuration=3600) + policy("idle", pwdMaxIdle=1))
    people = "".join(account(uid) for uid in STATES if uid not in ("none", "loaded"))
    server.add(people + account("none", userPassword=None))
    server.add(
        entry(
            f"cn=open,ou=policies,{BASE}",
            objectClass=["device", "pwdPolicy"],
            cn="open",
            pwdAttribute="userPassword",
            pwdLockout="FALSE",
            pwdMaxIdle=1,
        )
    )
    for uid in STATES:
        if uid.startswith("open-"):
            _set(server, uid, pwdPolicySubentry=f"cn=open,ou=policies,{BASE}")
    under = {"locked": "long", "graced": "graced", "graced-out": "graced", "strict": "long"}
    server.add(policy("brief", pwdGraceAuthNLimit=5, pwdGraceExpiry=3 * 86_400))
    under |= {"idle-unused": "idle", "graced-late": "brief", "graced-soon": "brief"}
    for uid, name in under.items():
        _set(server, uid, pwdPolicySubentry=f"cn={name},ou=policies,{BASE}")
    now = datetime.now(UTC)
    old = {"expired": 91, "graced": 91, "graced-out": 91, "soon": 85, "graced-late": 94, "graced-soon": 91}
    for uid, days in old.items():
        _set(server, uid, pwdChangedTime=stamp(now - timedelta(days=days)))
    for uid in ("normal", "idle"):
        assert server.sign_in(uid, PASSWORD) == "ok"
    # Under its policy only now: it counts from the change of password as well.
    _set(server, "idle", pwdPolicySubentry=f"cn=idle,ou=policies,{BASE}")
    for uid in ("locked", "lock-over"):
        for _ in range(3):
            server.sign_in(uid, "wrong")
    _set(server, "by-hand", pwdAccountLockedTime="000001010000Z")
    # A policy that does not lock heeds no lock and no idleness; an end it heeds.
    _set(server, "open-locked", pwdAccountLockedTime=stamp(now))
    _set(server, "open-by-hand", pwdAccountLockedTime="000001010000Z")
    _set(server, "open-ended", pwdEndTime=stamp(now - timedelta(days=1)))
    _set(server, "reset", pwdReset="TRUE")
    _set(server, "ended", pwdEndTime=stamp(now - timedelta(days=1)))
    _set(server, "future", pwdStartTime=stamp(now + timedelta(days=1)))
    server.sign_in("graced-out", PASSWORD)
    server.add(account("loaded"))
    server.modify(f"dn: uid=loaded,ou=people,{BASE}\nchangetype: modify\ndelete: pwdChangedTime\n\n", *RELAX)
    groups = "".join(
        entry(f"cn={name},ou=groups,{BASE}", objectClass=["groupOfNames"], cn=name, member=members)
        for name, members in {
            "admins": [f"uid=strict,ou=people,{BASE}", f"cn=operators,ou=groups,{BASE}"],
            "operators": [f"uid=normal,ou=people,{BASE}", f"cn=night,ou=groups,{BASE}"],
            "night": [f"uid=soon,ou=people,{BASE}", f"cn=admins,ou=groups,{BASE}"],
        }.items()
    )
    groups += entry(
        f"cn=posix,ou=groups,{BASE}", objectClass=["posixGroup"], cn="posix", gidNumber=500, memberUid="idle"
    )
    server.add(groups)
    time.sleep(3.1)  # the lock of the default policy lasts two seconds, and one without a sign-in is idle


def _set(server: Server, uid: str, **values: str) -> None:
    for name, value in values.items():
        change = f"dn: uid={uid},ou=people,{BASE}\nchangetype: modify\nreplace: {name}\n{name}: {value}\n\n"
        server.modify(change, *RELAX)


def read(server: Server, folder: Path, **options: Any) -> Reading:
    given = {
        "read": "ldap",
        "url": server.url,
        "base": BASE,
        "bind-dn": f"cn=reader,{BASE}",
        "password-from": "env:TEST_DIRECTORY_PASSWORD",
        "default-policy": f"CN=Default, ou=policies,{BASE}",
        "accounts": ["inetOrgPerson"],
        "page-size": 4,
        "privileged-groups": ["admins"],
        **options,
    }
    os.environ["TEST_DIRECTORY_PASSWORD"] = PASSWORD
    section = msgspec.convert(given, LdapSection)
    with ThreadPoolExecutor(1) as workers:
        (reading,) = ldap.read(section, Request("dir", folder, CLOCK, datetime.now(UTC), workers))
    return reading


@pytest.fixture(scope="module")
def reading(server: Server, tmp_path_factory: pytest.TempPathFactory) -> Reading:
    return read(server, tmp_path_factory.mktemp("reading"))


def expected(row: dict[str, Any], at: datetime) -> str:
    """What a sign-in with the right password would be answered, by the facts alone."""

    def past(name: str) -> bool:
        return row[name] is not None and row[name] <= at

    locked = row["locked"] and not past("locked-until")
    ahead = row["starts"] is not None and row["starts"] > at
    if not row["has-password"]:
        return "refused"
    if locked or past("ends") or ahead:
        return "locked"
    if past("password-lapses"):
        return "expired"
    return "must change" if row["password-must-change"] else "ok"


@pytest.mark.parametrize("uid", STATES)
def test_the_facts_say_what_the_server_answers(server: Server, reading: Reading, uid: str) -> None:
    """Locked, expired, must change or let in: worked out before, asked of the server afterwards."""
    row = rows(reading)[uid]
    worked_out = expected(row, datetime.now(UTC))
    assert server.sign_in(uid, PASSWORD) == worked_out, row


def test_who_signs_in_as_a_system_user(server: Server, tmp_path: Path) -> None:
    """EXTERNAL over the socket: the same accounts as with a password."""
    found = read(server, tmp_path, url=server.socket_url, **{"sign-in": "external"})
    assert rows(found).keys() == set(STATES)


def test_each_state_is_told_apart(reading: Reading) -> None:
    """A lock with an end, one without, one that is over though its attributes remain; and the rest."""
    found = rows(reading)
    told = {
        uid: expected(row, datetime.now(UTC)) if uid != "idle" else row["lock-cause"]
        for uid, row in found.items()
    }
    assert told["idle"] == "inactivity"
    assert found["locked"]["locked-until"] - found["locked"]["locked-since"] == timedelta(hours=1)
    assert found["locked"]["failed-attempts"] == 3
    over = found["lock-over"]
    assert over["locked"] is True and over["locked-until"] < datetime.now(UTC)
    assert (found["by-hand"]["lock-cause"], found["by-hand"]["locked-until"]) == ("administrator", None)
    assert found["soon"]["password-expires"] > datetime.now(UTC) > found["expired"]["password-lapses"]
    assert found["graced"]["password-lapses"] is None, "one sign-in is left"
    assert found["graced-out"]["password-lapses"] is not None
    assert found["unused"]["last-sign-in"] is None and found["normal"]["last-sign-in"] is not None
    assert found["loaded"]["password-never-expires"] is True
    assert (found["none"]["has-password"], found["normal"]["has-password"]) == (False, True)


def test_groups_are_followed_and_circles_end(reading: Reading) -> None:
    """Direct, nested with the path, by member name; one privileged group, by whichever way."""
    found = rows(reading)
    assert found["soon"]["groups"] == ["night", "operators", "admins"]
    assert found["idle"]["groups"] == ["posix"]
    grants = rows(reading, "grant")
    assert {name: row["via"] for name, row in grants.items()} == {
        "strict": "group admins",
        "normal": "group operators in admins",
        "soon": "group night in operators in admins",
    }


def test_policies_are_settings(reading: Reading) -> None:
    """Each with whom it is for; the default one is for everyone else."""
    found = rows(reading, "setting")
    default, long = (found[f"cn={name},ou=policies,{BASE}"] for name in ("default", "long"))
    assert default["applies-to"] == ["everyone"] and long["applies-to"] == ["locked", "strict"]
    assert (default["min-length"], default["history"], default["lock-after"]) == (12, 4, 3)
    assert (default["max-age"], long["lock-for"]) == (timedelta(days=90), timedelta(hours=1))


@pytest.mark.parametrize(("quality", "least"), [(None, None), (0, None), (1, 12), (2, 12)])
def test_a_least_length_counts_only_where_quality_is_checked(
    server: Server, tmp_path: Path, quality: int | None, least: int | None
) -> None:
    """What the setting says is what the server allows."""
    uid = f"length-{quality}"
    more = {} if quality is None else {"pwdCheckQuality": quality}
    usual = {"pwdAttribute": "userPassword", "pwdMinLength": 12, "pwdAllowUserChange": "TRUE"}
    name = f"cn={uid},ou=policies,{BASE}"
    server.add(entry(name, objectClass=["device", "pwdPolicy"], cn=uid, **usual, **more))
    server.add(account(uid))
    _set(server, uid, pwdPolicySubentry=name)
    try:
        setting = rows(read(server, tmp_path), "setting")[name]
        assert setting["min-length"] == least
        assert server.takes_password(uid, PASSWORD, "short") is (least is None)
    finally:
        for each in (f"uid={uid},ou=people,{BASE}", name):
            server.modify(f"dn: {each}\nchangetype: delete\n\n")


def test_without_the_default_policy_what_rests_on_it_is_unknown(server: Server, tmp_path: Path) -> None:
    """It stands in the server's configuration alone: nobody can guess it."""
    found = read(server, tmp_path, **{"default-policy": "", "base": f"ou=people,{BASE}"})
    row = rows(found)["normal"]
    assert row["password-expires"] is None and "password-expires" in row["unread"]
    assert any("default-policy in the estate names" in remark for remark in found.remarks)
    assert not any(row["unread"] for row in rows(read(server, tmp_path)).values() if row.get("unread"))


def test_what_the_reader_may_not_see_is_not_absent(server: Server, tmp_path: Path) -> None:
    """An ordinary account sees the state of itself alone: nothing of the others' is supplied."""
    own = f"uid=normal,ou=people,{BASE}"
    found = read(server, tmp_path, **{"bind-dn": own})
    assert list(rows(found)) == ["normal"]
    assert not {"locked", "password-changed", "has-password", "groups"} & found.supply["account"].keys()
    assert any("hidden or not there: all of it is unknown" in remark for remark in found.remarks)
    found = read(server, tmp_path, hidden=["pwdAccountLockedTime"])
    assert "locked" not in found.supply["account"] and "password-changed" in found.supply["account"]


def test_a_search_that_the_server_cuts_short_is_incomplete(server: Server, tmp_path: Path) -> None:
    """The size limit holds for all pages together: what came is kept, and it is said."""
    found = read(server, tmp_path, **{"bind-dn": f"cn=narrow,{BASE}"})
    assert any("the server's size limit ended the search" in reason for reason in found.incomplete)


@pytest.mark.parametrize("how", ["ldaps", "starttls"])
def test_certificates_are_verified(server: Server, tmp_path: Path, how: str) -> None:
    """With the signer's certificate; without it, only if that is spelt out, and every snapshot says so."""
    where = {"url": server.tls_url} if how == "ldaps" else {"url": server.url, "start-tls": True}
    (tmp_path / "ca.pem").write_bytes((server.folder / "ca.pem").read_bytes())
    assert len(rows(read(server, tmp_path, **where, **{"ca-file": "ca.pem"}))) == len(STATES)
    with pytest.raises(KeymalletError) as raised:
        read(server, tmp_path, **where)
    assert "certificate" in raised.value.problems[0].message
    found = read(server, tmp_path, **where, **{"verify-certificate": False})
    assert any("was not verified, as the estate says" in remark for remark in found.remarks)


@pytest.mark.parametrize(
    ("kind", "told"), [(EXPIRED, "certificate has expired"), (OTHER_HOST, "it is for elsewhere.gvr.example")]
)
def test_a_certificate_that_ended_or_is_anothers(tmp_path: Path, kind: str, told: str) -> None:
    """The password is not sent to whoever shows it: the connection ends before that."""
    signer, certificate = make_certificate(tmp_path, kind)
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(certificate)
    heard: list[bytes] = []
    with socket.create_server(("127.0.0.1", 0)) as listening:

        def answer() -> None:
            with (
                contextlib.suppress(OSError),
                context.wrap_socket(listening.accept()[0], server_side=True) as one,
            ):
                heard.append(one.recv(1000))

        threading.Thread(target=answer, daemon=True).start()
        given = {"read": "ldap", "url": f"ldaps://127.0.0.1:{listening.getsockname()[1]}", "base": BASE}
        given |= {"bind-dn": "cn=reader", "password-from": "env:TEST_LDAP_PASSWORD", "ca-file": signer.name}
        os.environ["TEST_LDAP_PASSWORD"] = "planted-password"
        with ThreadPoolExecutor(1) as workers, pytest.raises(KeymalletError) as raised:
            request = Request("dir", tmp_path, CLOCK, datetime.now(UTC), workers)
            ldap.read(msgspec.convert(given, LdapSection), request)
    problem = raised.value.problems[0]
    assert told in problem.message and "ca-file" in problem.hint and b"planted" not in b"".join(heard)


@pytest.mark.parametrize(
    ("options", "told"),
    [
        ({"url": "ldap://127.0.0.1:1"}, "cannot be read"),
        ({"url": "http://127.0.0.1"}, "no address of a directory"),
        ({"url": "ldap://directory.gvr.example"}, "not sent in the clear"),
        ({"bind-dn": f"cn=nobody,{BASE}"}, "does not let the reader in: invalidCredentials"),
        ({"bind-dn": ""}, "bind-dn and password-from are missing"),
        ({"base": "ou=nowhere,dc=gvr,dc=example"}, "there is no ou=nowhere"),
        ({"password-from": "hunter2-planted"}, "no pointer to a secret"),
        ({"password-from": "env:NO_SUCH_NAME"}, "there is no NO_SUCH_NAME in the environment"),
        ({"password-from": "file:nothing"}, "cannot be read"),
        ({"ca-file": "nothing.pem"}, "there is no such file"),
        ({"filter": "(broken"}, "cannot be read"),
        ({"sign-in": "anonymous"}, "nothing was found"),
    ],
)
def test_what_cannot_work_is_said(server: Server, tmp_path: Path, options: dict[str, Any], told: str) -> None:
    """In our own form, with no secret in it."""
    with pytest.raises(KeymalletError) as raised:
        read(server, tmp_path, **options)
    (problem,) = raised.value.problems
    assert told in problem.message
    assert PASSWORD not in repr(raised.value.problems) and "hunter2" not in repr(raised.value.problems)


def test_from_the_server_to_the_verdict(server: Server, tmp_path: Path) -> None:
    """The installed program: read over LDAPS, judged, no secret anywhere; incomplete is code 3."""
    write(tmp_path, {"secret": PASSWORD + "\n", "ca.pem": (server.folder / "ca.pem").read_bytes()})
    estate = f"""
organisation = "Gentian Valley Railway"
clock = "Europe/Zurich"
rulebook = "rulebook.toml"
[source.directory]
read = "ldap"
url = "{server.tls_url}"
base = "{BASE}"
bind-dn = "cn=READER,{BASE}"
password-from = "file:secret"
ca-file = "ca.pem"
accounts = ["inetOrgPerson"]
default-policy = "cn=default,ou=policies,{BASE}"
kinds = {{ "*" = "person" }}
"""
    book = 'title = "T"\n[rule.locked]\ntitle = "L"\nmust = "not locked"\nseverity = "high"\n'
    write(tmp_path, {"estate.toml": estate.replace("READER", "reader"), "rulebook.toml": book})
    told = run_installed("read", cwd=tmp_path, expect=0).stdout
    assert f"read {len(STATES)} accounts" in told
    judged = run_installed("judge", "--format", "csv", cwd=tmp_path, expect=1).stdout
    barred = {line.split(",")[4].removeprefix("directory/") for line in judged.splitlines()[1:]}
    assert (
        {"locked", "by-hand", "idle", "expired", "graced-out"}
        <= barred
        <= {*STATES} - {"normal", "lock-over"}
    )
    write(tmp_path, {"estate.toml": estate.replace("READER", "narrow")})
    assert "100% fewer" in run_installed("read", cwd=tmp_path, expect=2).stderr
    cut = run_installed("read", "--accept-drop", cwd=tmp_path, expect=3).stdout
    assert "incomplete: below dc=gvr,dc=example, the server's size limit" in " ".join(cut.split())
    assert "incomplete: directory: below" in run_installed("judge", "--at", "2100-01-01", cwd=tmp_path).stdout
    everything = b"".join(path.read_bytes() for path in (tmp_path / "snapshots").rglob("*") if path.is_file())
    assert PASSWORD.encode() not in everything


def test_a_part_on_another_server_is_named(server: Server, tmp_path: Path) -> None:
    """The directory answers with a reference, which is not followed: what stands there was not read."""
    elsewhere = f"ou=elsewhere,{BASE}"
    server.add(
        entry(elsewhere, objectClass=["referral", "extensibleObject"], ou="elsewhere", ref=f"ldap://other.example/{elsewhere}")
    )  # fmt: skip
    try:
        found = read(server, tmp_path)
    finally:
        server.modify(f"dn: {elsewhere}\nchangetype: delete\n\n", "-M")
    (told,) = found.referrals
    assert "other.example" in told and "was not asked" in told
    assert len(found.tables["account"]) == len(STATES)
    assert not read(server, tmp_path).referrals


@pytest.mark.parametrize("code", [4, 50, 51])
def test_who_has_a_password_may_not_be_told_in_full(
    server: Server, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, code: int
) -> None:
    """The search ends early: of whom it has not named, it is not known that they have none."""
    real = ldap._search
    descriptions = {4: "sizeLimitExceeded", 50: "insufficientAccessRights", 51: "busy"}

    def cut(connection: Any, section: Any, base: str, filter_: str, *more: Any, **options: Any) -> Any:
        found = real(connection, section, base, filter_, *more, **options)
        if filter_ == "(userPassword=*)":
            more[1].incomplete.append(f"below {base}, the search ended with {descriptions[code]}")
            return found[:3]
        return found

    monkeypatch.setattr(ldap, "_search", cut)
    found = read(server, tmp_path)
    (why,) = found.incomplete
    assert why.startswith("asked who has a password: ") and descriptions[code] in why
    told = found.tables["account"]["has-password"]
    assert (told.sum(), told.null_count()) == (min(3, told.sum()), len(told) - told.sum())
