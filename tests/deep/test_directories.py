"""Two real directory servers beside slapd: accounts brought into each state, their answers as the oracle."""

from __future__ import annotations

import time
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import pytest

from keymallet.core.facts.reading import Reading
from tests.deep.directories import (
    BASE,
    PASSWORD,
    ROOT_PASSWORD,
    ControlServer,
    DirectoryServer,
    LockServer,
)
from tests.sources.directory.support import rows, stamp
from tests.sources.directory.test_ldif import ticks
from tests.support import run_installed, write

pytestmark = pytest.mark.deep
DAY = 86_400
NOW = datetime.now(UTC)
PAST, FUTURE = stamp(NOW - timedelta(days=3)), stamp(NOW + timedelta(days=3))
LOCK_STATES = {
    # under the server's own policy: three failures lock, passwords expire, a change is asked for after a reset
    "normal": "ok",
    "off": "locked",
    "on-again": "ok",
    "reset": "must change",
    "late": "expired",
    "locked": "locked",
    "counted": "ok",
    "unlocked": "ok",
    "shadowed": "ok",
    "idle": "locked",
    "idle-new": "locked",
    "seldom": "ok",
    # under one that says nothing, and so asks for nothing
    "bare-reset": "ok",
    "bare-late": "ok",
    "bare-locked": "ok",
    # where locks do not end by themselves, or soon
    "forever": "locked",
    "forever-over": "ok",
    "brief": "ok",
    # where an expired password is taken twice more
    "graced": "ok",
    "graced-out": "expired",
}


def told(row: dict[str, Any]) -> str:
    """What a sign-in with the right password would be answered, by the facts alone."""

    def past(name: str) -> bool:
        return row[name] is not None and row[name] <= datetime.now(UTC)

    unknown = [name for name in ("enabled", "locked", "password-must-change") if row[name] is None]
    assert not unknown, unknown
    if not row["enabled"] or (row["locked"] and not past("locked-until")):
        return "locked"
    if past("password-lapses"):
        return "expired"
    return "must change" if row["password-must-change"] else "ok"


@pytest.fixture(scope="module")
def lock_server(tmp_path_factory: pytest.TempPathFactory) -> Iterator[LockServer]:
    server = LockServer(tmp_path_factory.mktemp("lock-server"))
    try:
        _fill(server)
        yield server
    finally:
        server.stop()


def _fill(server: LockServer) -> None:
    settings = {"passwordLockout": "on", "passwordExp": "on", "passwordMustChange": "on"}
    server.set("cn=config", **settings, passwordTrackUpdateTime="on", **{"nsslapd-pwpolicy-local": "on"})
    how = {
        "alwaysrecordlogin": "yes",
        "stateattrname": "lastLoginTime",
        "altstateattrname": "createTimestamp",
    }
    server.set(
        f"cn=config,{server.plugin}",
        **how,
        specattrname="acctPolicySubentry",
        limitattrname="accountInactivityLimit",
    )
    bare = server.policy("bare")
    forever = server.policy("forever", passwordLockout="on", passwordUnlock="off", passwordMaxFailure="2")
    brief = server.policy(
        "brief",
        passwordLockout="on",
        passwordMaxFailure="2",
        passwordLockoutDuration="1",
        passwordResetFailureCount="1",
    )
    graced = server.policy("graced", passwordExp="on", passwordGraceLimit="2", passwordMaxAge="864000")
    for name, seconds in (("soon", 1), ("year", 365 * DAY)):
        server.add(
            f"cn={name},{server.policies}",
            ["ldapsubentry", "extensibleObject", "accountpolicy"],
            cn=name,
            accountInactivityLimit=str(seconds),
        )
    under = {"bare": bare, "forever": forever, "brief": brief, "graced": graced}
    names = {}
    for uid in LOCK_STATES:
        policy = under.get(uid.partition("-")[0])
        # An administrator's password asks for a change, which an expiry of one's own takes away.
        ahead = None if uid == "reset" else FUTURE
        names[uid] = server.person(uid, **{"pwdPolicySubentry": policy} if policy else {})
        if ahead:
            server.set(names[uid], passwordExpirationTime=ahead)
    for uid in ("late", "bare-late", "graced", "graced-out"):
        server.set(names[uid], passwordExpirationTime=PAST)
    server.set(names["bare-reset"], passwordExpirationTime="19700101000000Z")
    server.set(names["off"], nsAccountLock="true")
    server.set(names["on-again"], nsAccountLock="false")
    for uid, often in (
        ("locked", 4),
        ("unlocked", 4),
        ("forever", 3),
        ("forever-over", 3),
        ("brief", 3),
        ("counted", 2),
    ):
        for _ in range(often):
            server.sign_in(uid, "wrong")
    server.set(names["unlocked"], passwordRetryCount="0")
    server.set(names["forever-over"], passwordRetryCount="0", accountUnlockTime=None)
    server.set(names["bare-locked"], passwordRetryCount="5", accountUnlockTime=FUTURE)
    for _ in range(2):
        server.sign_in("graced-out")
    assert server.admin.modify(names["shadowed"], {"objectClass": [("MODIFY_ADD", ["shadowAccount"])]})
    server.set(names["shadowed"], shadowExpire="10000")
    for uid in ("idle", "normal", "seldom"):
        assert server.sign_in(uid) == "ok"
    for uid, name in (("idle", "soon"), ("idle-new", "soon"), ("seldom", "year")):
        server.set(names[uid], acctPolicySubentry=f"cn={name},{server.policies}")
    time.sleep(2.5)


@pytest.fixture(scope="module")
def lock_reading(lock_server: LockServer, tmp_path_factory: pytest.TempPathFactory) -> Reading:
    return lock_server.read(tmp_path_factory.mktemp("read"))


@pytest.mark.parametrize("uid", LOCK_STATES)
def test_the_facts_say_what_a_server_with_account_locks_answers(
    lock_server: LockServer, lock_reading: Reading, uid: str
) -> None:
    """Worked out before it is asked; and as the scenario was meant."""
    row = rows(lock_reading)[uid]
    assert told(row) == lock_server.sign_in(uid) == LOCK_STATES[uid], row


def test_policies_of_a_server_with_account_locks(lock_server: LockServer, lock_reading: Reading) -> None:
    """Its own configuration for everyone, and sub-entries for some, by whichever name it answers."""
    found = rows(lock_reading, "setting")
    everyone, forever = found["cn=config"], found[f"cn=forever,{lock_server.policies}"]
    assert (everyone["applies-to"], everyone["max-age"]) == (["everyone"], timedelta(days=100))
    assert (everyone["lock-after"], everyone["first-use-change"]) == (3, True)
    assert forever["applies-to"] == ["forever", "forever-over"]
    assert (forever["lock-after"], forever["lock-for"], forever["max-age"]) == (2, None, None)


@pytest.mark.parametrize(
    ("switch", "told"), [({}, (None, None)), ({"passwordCheckSyntax": "on"}, (12, None)), ({"passwordHistory": "on"}, (None, 3))]
)  # fmt: skip
def test_length_and_history_count_only_where_they_are_switched_on(
    lock_server: LockServer, tmp_path: Path, switch: dict[str, str], told: tuple[int | None, int | None]
) -> None:
    """What the setting says is what the server allows: a short password, and an old one once more."""
    name = "-".join(["own", *switch]).lower()
    policy = lock_server.policy(name, passwordMinLength="12", passwordInHistory="3", **switch)
    lock_server.person(name, pwdPolicySubentry=policy)
    setting = rows(lock_server.read(tmp_path), "setting")[policy]
    assert (setting["min-length"], setting["history"]) == told
    assert lock_server.takes_password(name, PASSWORD, "short") is (told[0] is None)
    if told[0] is None:
        assert lock_server.takes_password(name, "short", PASSWORD) is (told[1] is None)


def named(folder: Path, server: DirectoryServer, question: str, **options: str) -> set[str]:
    """Whom the installed program names of a server's accounts."""
    section = {
        "read": "ldap",
        "url": server.url,
        "base": BASE,
        "bind-dn": server.root,
        "password-from": "env:ROOT_PASSWORD",
    }
    lines = [f'{name} = "{value}"\n' for name, value in section.items()]
    estate = (
        'organisation = "O"\nclock = "UTC"\nrulebook = "base"\n[source.dir]\nverify-certificate = false\n'
    )
    write(folder, {"estate.toml": estate + "".join(lines)})
    run_installed("read", cwd=folder, ROOT_PASSWORD=ROOT_PASSWORD)
    told = run_installed("who", question, "--format", "csv", cwd=folder).stdout
    return {line.split(",")[0].removeprefix("dir/") for line in told.splitlines()[1:]}


def test_who_is_usable_gets_in(lock_server: LockServer, tmp_path: Path) -> None:
    """Whoever is told to be usable is let in, if only to set a new password; nobody else is."""
    usable = named(tmp_path, lock_server, "usable")
    lets_in = {uid for uid in LOCK_STATES if lock_server.sign_in(uid) in ("ok", "must change")}
    assert usable & set(LOCK_STATES) == lets_in


def test_the_last_sign_in_is_the_servers(lock_server: LockServer, tmp_path: Path) -> None:
    """To the second, and none for who never came."""
    lock_server.person("came", passwordExpirationTime=FUTURE)
    lock_server.person("stayed-away", passwordExpirationTime=FUTURE)
    before = datetime.now(UTC).replace(microsecond=0)
    assert lock_server.sign_in("came") == "ok"
    found = rows(lock_server.read(tmp_path))
    assert before <= found["came"]["last-sign-in"] <= datetime.now(UTC)
    assert found["stayed-away"]["last-sign-in"] is None


def test_what_changes_between_two_readings(lock_server: LockServer, tmp_path: Path) -> None:
    """Locked, off, renamed, deleted, made an administrator through a group in a group; the id follows a rename."""
    names = {
        uid: lock_server.person(uid, passwordExpirationTime=FUTURE)
        for uid in ("to-lock", "to-end", "to-go", "to-name")
    }
    groups = f"ou=groups,{BASE}"
    for group in ("inner", "outer"):
        lock_server.add(f"cn={group},{groups}", ["groupOfNames"], cn=group)
    lock_server.set(f"cn=inner,{groups}", member=names["to-lock"])
    options = {"privileged-groups": ["outer"]}
    first = lock_server.read(tmp_path, **options)
    before = rows(first)
    assert first.tables["grant"].is_empty()
    lock_server.set(f"cn=outer,{groups}", member=f"cn=inner,{groups}")
    for _ in range(4):
        lock_server.sign_in("to-lock", "wrong")
    lock_server.set(names["to-end"], nsAccountLock="true")
    assert lock_server.admin.delete(names["to-go"])
    assert lock_server.admin.modify_dn(names["to-name"], "uid=named")
    second = lock_server.read(tmp_path, **options)
    after = rows(second)
    assert [(row["account"], row["via"]) for row in second.tables["grant"].iter_rows(named=True)] == [
        ("to-lock", "group inner in outer")
    ]
    assert (before["to-lock"]["locked"], after["to-lock"]["locked"]) == (False, True)
    assert (before["to-end"]["enabled"], after["to-end"]["enabled"]) == (True, False)
    assert "to-go" not in after and after["named"]["stable-id"] == before["to-name"]["stable-id"]
    for uid in ("to-lock", "to-end", "named"):
        assert told(after[uid]) == lock_server.sign_in(uid)


def test_without_the_servers_own_policy_what_rests_on_it_is_unknown(
    lock_server: LockServer, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A reader who does not see cn=config cannot tell what it asks for."""
    aci = f'(targetattr="*")(version 3.0; acl "all"; allow (read,search,compare) userdn="ldap:///uid=normal,{lock_server.people}";)'
    assert lock_server.admin.modify(BASE, {"aci": [("MODIFY_ADD", [aci])]})
    monkeypatch.setenv("TEST_READER_PASSWORD", PASSWORD)
    who = {"bind-dn": f"uid=normal,{lock_server.people}", "password-from": "env:TEST_READER_PASSWORD"}
    reading = lock_server.read(tmp_path, **who)
    found = rows(reading)
    assert {"password-expires", "password-never-expires"} <= set(found["late"]["unread"])
    assert found["reset"]["password-must-change"] is None and found["locked"]["locked"] is None
    assert found["off"]["enabled"] is False


CONTROL_STATES = {
    "normal": "ok",
    "locked": "locked",
    "lock-over": "ok",
    "off": "disabled",
    "must": "must change",
    "ended": "ended",
    "endless": "ok",
    "never": "ok",
    "never-must": "ok",
    "card": "refused",
    "machine$": "ok",
    "machine-must$": "ok",
    "no-maximum": "ok",
    "expired": "expired",
    "not-yet": "ok",
}


def _control_told(row: dict[str, Any]) -> str:
    if row["locked"] and not (row["locked-until"] and row["locked-until"] <= datetime.now(UTC)):
        return "locked"
    if row["password-locked"]:
        return "refused"
    if not row["enabled"]:
        return "disabled"
    if row["ends"] is not None and row["ends"] <= datetime.now(UTC):
        return "ended"
    if row["password-must-change"]:
        return "must change"
    lapsed = row["password-expires"] is not None and row["password-expires"] <= datetime.now(UTC)
    return "expired" if lapsed else "ok"


@pytest.fixture(scope="module")
def control_server(tmp_path_factory: pytest.TempPathFactory) -> Iterator[ControlServer]:
    server = ControlServer(tmp_path_factory.mktemp("control-server"))
    try:
        _fill_domain(server)
        yield server
    finally:
        server.stop()


def _fill_domain(server: ControlServer) -> None:
    half_an_hour = -18_000_000_000
    server.set(BASE, lockoutThreshold=3, lockoutDuration=half_an_hour, lockOutObservationWindow=half_an_hour)
    server.set(BASE, maxPwdAge=-90 * DAY * 10_000_000, minPwdLength=11)
    # The same attributes stand on an entry that is nobody's policy.
    server.set(
        f"CN=Builtin,{BASE}",
        lockoutThreshold=9,
        lockoutDuration=half_an_hour // 2,
        lockOutObservationWindow=half_an_hour // 2,
    )
    given: dict[str, dict[str, Any]] = {
        "off": {"flags": 514},
        "must": {"pwdLastSet": 0},
        "ended": {"accountExpires": 133_000_000_000_000_000},
        "endless": {"accountExpires": 0},
        "never": {"flags": 0x10200},
        "never-must": {"flags": 0x10200, "pwdLastSet": 0},
        "card": {"flags": 0x40200},
        "machine$": {"flags": 0x1000, "kind": "computer"},
        "machine-must$": {"flags": 0x1000, "kind": "computer", "pwdLastSet": 0},
    }
    names = {name: server.person(name, **given.get(name, {})) for name in CONTROL_STATES}
    server.policy("free", names["no-maximum"])
    two_seconds = -20_000_000
    server.policy(
        "brief",
        names["lock-over"],
        LockoutThreshold=2,
        LockoutDuration=two_seconds,
        LockoutObservationWindow=two_seconds,
    )
    for name in ("locked", "lock-over"):
        for _ in range(3):
            server.sign_in(name, "wrong")
    for group, number in (("keepers", 512), ("night", 513)):
        server.add(
            f"CN={group},{server.people}", ["group", "posixGroup"], sAMAccountName=group, gidNumber=number
        )
    server.person("by-primary")
    assert server.admin.modify(
        f"CN=Domain Admins,{server.people}", {"member": [("MODIFY_ADD", [f"CN=by-primary,{server.people}"])]}
    )
    server.set(f"CN=by-primary,{server.people}", primaryGroupID=512)
    server.person("nested")
    for group, member in (("night", "nested"), ("keepers", "night")):
        assert server.admin.modify(
            f"CN={group},{server.people}", {"member": [("MODIFY_ADD", [f"CN={member},{server.people}"])]}
        )
    # As if their passwords had been set so long ago, which no operation can do.
    server.set_raw(names["expired"], pwdLastSet=ticks(NOW - timedelta(days=91)))
    server.set_raw(names["not-yet"], pwdLastSet=ticks(NOW - timedelta(days=89)))
    time.sleep(2.5)


@pytest.fixture(scope="module")
def control_reading(control_server: ControlServer, tmp_path_factory: pytest.TempPathFactory) -> Reading:
    return control_server.read(
        tmp_path_factory.mktemp("read"), **{"privileged-groups": ["Domain Admins", "keepers"]}
    )


@pytest.mark.parametrize("name", CONTROL_STATES)
def test_the_facts_say_what_a_domain_controller_answers(
    control_server: ControlServer, control_reading: Reading, name: str
) -> None:
    """Worked out before it is asked; and as the scenario was meant."""
    row = rows(control_reading)[name]
    assert _control_told(row) == control_server.sign_in(name) == CONTROL_STATES[name], row


def test_locks_and_ages_are_the_domains_own(control_reading: Reading) -> None:
    """Not those of CN=Builtin; what has no maximum never expires."""
    found = rows(control_reading)
    locked = found["locked"]
    assert locked["locked-until"] - locked["locked-since"] == timedelta(minutes=30)
    normal = found["normal"]
    assert normal["password-expires"] - normal["password-changed"] == timedelta(days=90)
    never = {name for name in CONTROL_STATES if found[name]["password-never-expires"]}
    assert never == {"lock-over", "never", "never-must", "card", "machine$", "machine-must$", "no-maximum"}
    settings = rows(control_reading, "setting")
    assert {name.partition(",")[0]: row["applies-to"] for name, row in settings.items()} == {
        "DC=gvr": ["everyone"],
        "CN=free": ["no-maximum"],
        "CN=brief": ["lock-over"],
    }
    (domain,) = (row for name, row in settings.items() if name.startswith("DC="))
    assert (domain["min-length"], domain["lock-after"]) == (11, 3)


def test_who_is_usable_gets_into_a_domain(control_server: ControlServer, tmp_path: Path) -> None:
    """Nobody told to be usable is refused for good; whoever gets in is usable, or it cannot be told."""
    usable = named(tmp_path, control_server, "usable")
    unknown = named(tmp_path, control_server, "usable is unknown")
    answers = {name: control_server.sign_in(name) for name in CONTROL_STATES}
    gets_in = {name for name, answer in answers.items() if answer in ("ok", "must change", "expired")}
    assert usable & set(CONTROL_STATES) <= gets_in <= usable | unknown


def test_who_holds_privilege_in_a_domain(control_reading: Reading) -> None:
    """By primary group, nested; a group whose gidNumber is the number of another's RID is not that one."""
    held = {
        (row["account"], row["role"])
        for row in control_reading.tables["grant"].iter_rows(named=True)
        if row["account"] in {*CONTROL_STATES, "by-primary", "nested"}
    }
    assert held == {("by-primary", "Domain Admins"), ("nested", "keepers")}
    assert "keepers" not in rows(control_reading)["by-primary"]["groups"]
    assert "night" not in rows(control_reading)["normal"]["groups"]
