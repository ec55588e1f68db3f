"""A dump of a directory: what is read, what is refused where, and each family of attributes as measured."""

from __future__ import annotations

import time
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import pytest
from cryptography import x509
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.hazmat.primitives.serialization import Encoding
from hypothesis import given
from hypothesis import strategies as st

from keymallet.core.base.problems import KeymalletError
from keymallet.sources.directory.entries import filetime, generalized_time, interval, normal_dn
from keymallet.sources.directory.state import is_readable, password_scheme
from tests.profiles import examples
from tests.sources.directory.support import BASE, entry, person, read_ldif, rows, stamp
from tests.support import AT, days_ago

NEVER = 2**63 - 1
KEY = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIJ2uBrV0i8gZSLY9iOyhBTtYVG6yRaXf50Lgn8pMF54X laptop"


def ticks(instant: datetime) -> int:
    """100 ns since 1601."""
    return int((instant - datetime(1601, 1, 1, tzinfo=UTC)) / timedelta(microseconds=1)) * 10


def test_the_shapes_of_a_dump(tmp_path: Path) -> None:
    """Folded lines, base64, comments, version, options, carriage returns; line numbers of what is refused."""
    text = (
        "version: 1\r\n# made by hand\r\n\r\n"
        "dn: uid=a,dc=x\r\nobjectClass: person\r\nuid: a\r\ncn: An\r\n na Arv\r\nmail;lang-de:: YUB4LmV4YW1wbGU=\r\n\r\n\r\n"
        "dn: uid=b,dc=x\nchangetype: modify\nreplace: cn\ncn: B\n-\n\n"
        "no colon here\n\n"
        "uid: c\nobjectClass: person\n\n"
        "dn: uid=d,dc=x\nobjectClass: person\nuid: d\njpegPhoto:< file:///etc/shadow\n\n"
        "dn: cn=e,dc=x\nobjectClass: person\nsn: e\n\n"
        "search: 2\nresult: 0 Success\n"
    )
    reading = read_ldif(tmp_path, text, name=["uid"])
    found = rows(reading)
    assert found.keys() == {"a", "d"}
    assert (found["a"]["display"], found["a"]["mail"]) == ("Anna Arv", "a@x.example")
    refused = {each.line: each.reason for each in reading.intake["account"].refusals}
    assert refused.keys() == {12, 18, 20, 28}
    assert "a change record: dump the entries themselves" in refused[12]
    assert "none of uid for a login name" in refused[28]
    (unread,) = reading.intake["account"].unreadable_cells
    assert (unread.line, unread.column) == (23, "jpegPhoto")


def test_a_file_without_entries_is_an_error(tmp_path: Path) -> None:
    """A wrong file must not look like an empty directory."""
    for text in ("", "version: 1\n", "\x00\x01", "a,b,c\n1,2,3\n"):
        with pytest.raises(KeymalletError) as raised:
            read_ldif(tmp_path, text)
        assert "no entry stands here" in raised.value.problems[0].message


@pytest.mark.parametrize(
    ("text", "instant"),
    [
        ("20261124020732Z", "2026-11-24T02:07:32"),
        ("20261124020732.229061Z", "2026-11-24T02:07:32.229061"),
        ("2026112402Z", "2026-11-24T02:00:00"),
        ("202611240207+0100", "2026-11-24T01:07:00"),
        ("20261124020732,5-05", "2026-11-24T07:07:32.500000"),
        ("000001010000Z", None),
        ("19700101000000Z", None),
        ("20261301000000Z", None),
        ("20261124020732", None),
        ("99991231235959+0000", None),
        ("now", None),
    ],
)
def test_generalized_times(text: str, instant: str | None) -> None:
    """RFC 4517; sentinels are no instants."""
    assert generalized_time(text) == (
        datetime.fromisoformat(instant).replace(tzinfo=UTC) if instant else None
    )


def test_filetimes_and_intervals() -> None:
    """Zero and the largest number are sentinels; a policy's age is negative."""
    assert filetime(ticks(AT)) == AT
    assert [filetime(each) for each in (0, NEVER, -1, None, 2**62)] == [None] * 5
    assert interval(-36_000_000_000) == timedelta(hours=1)
    assert [interval(each) for each in (0, 5, None, -(2**63))] == [None] * 4


@pytest.mark.parametrize(
    ("one", "other"),
    [
        ("uid=A, ou=People,DC=x", "UID=a,ou=people,dc=x"),
        (r"cn=Doe\, John,dc=x", r"cn=doe\2c john,dc=x"),
        (r"cn=a\0ab,dc=x", r"cn=a\0Ab, dc=x"),
        ("not a name", "NOT A NAME"),
        ("", ""),
    ],
)
def test_names_are_compared_whatever_their_spelling(one: str, other: str) -> None:
    """Case, blanks around signs and ways of escaping make no difference."""
    assert normal_dn(one) == normal_dn(other)
    assert normal_dn(r"cn=a\,b,dc=x") != normal_dn("cn=a,b=c,dc=x")


def ns(uid: str, **values: Any) -> str:
    return person(uid, **{"passwordRetryCount": 0, "pwdUpdateTime": stamp(days_ago(10))} | values)


def lock_policy(name: str, **values: Any) -> str:
    usual = {
        "passwordExp": "on",
        "passwordLockout": "on",
        "passwordMaxFailure": 3,
        "passwordMustChange": "on",
    }
    return entry(f"cn={name},dc=x", objectClass=["ldapsubentry", "passwordPolicy"], **(usual | values))


def test_the_account_lock_family(tmp_path: Path) -> None:
    """Absolute ends; 1970 stands for "until reset" and "must change"; a lock that is over remains.

    As measured on 389 Directory Server 2.3: what a policy does not switch on, it does not do; failures lock
    from the limit on, and without an end only where locks do not end by themselves.
    """
    future, past = stamp(AT + timedelta(minutes=9)), stamp(AT - timedelta(minutes=9))
    under = {"pwdPolicySubentry": "cn=stays,dc=x"}
    bare = {"pwdPolicySubentry": "cn=bare,dc=x"}
    epoch = "19700101000000Z"
    text = (
        lock_policy("usual")
        # One server answers some attributes under other names, whichever it was asked for.
        + entry(
            "cn=stays,dc=x",
            objectClass=["passwordPolicy"],
            pwdLockout="on",
            pwdMaxFailure=2,
            passwordUnlock="off",
        )
        + entry("cn=bare,dc=x", objectClass=["passwordPolicy"])
        + ns("counted", passwordRetryCount=2, accountUnlockTime=future)
        + ns("ends-anyway", passwordRetryCount=3, accountUnlockTime=epoch)
        + ns("bare-locked", passwordRetryCount=9, accountUnlockTime=future, **bare)
        + ns("bare-reset", passwordExpirationTime=epoch, **bare)
        + ns("bare-late", passwordExpirationTime=past, **bare)
        + ns("moved", passwordExpirationTime="19700101000001Z")
        + ns("undated", pwdUpdateTime=[])
        + ns(
            "normal", passwordExpirationTime=stamp(AT + timedelta(days=80)), lastLoginTime=stamp(days_ago(3))
        )
        + ns("locked", passwordRetryCount=3, accountUnlockTime=future)
        + ns("forever", passwordRetryCount=2, accountUnlockTime=epoch, **under)
        + ns("over", passwordRetryCount=3, accountUnlockTime=past)
        + ns("off", nsAccountLock="true")
        + ns("reset", passwordExpirationTime=epoch)
        + ns("late", passwordExpirationTime=past, shadowExpire=1)
    )
    found = rows(read_ldif(tmp_path, text, **{"default-policy": "cn=usual,dc=x"}))
    assert {name: row["locked"] for name, row in found.items() if row["locked"]} == dict.fromkeys(
        ("locked", "forever", "over"), True
    )
    assert found["over"]["locked-until"] < AT < found["locked"]["locked-until"]
    assert found["forever"]["locked-until"] is None
    assert [name for name, row in found.items() if not row["enabled"]] == ["off"]
    assert [name for name, row in found.items() if row["password-must-change"]] == ["reset"]
    assert found["late"]["password-expires"] < AT < found["normal"]["password-expires"]
    assert found["normal"]["last-sign-in"] == days_ago(3)
    assert [name for name, row in found.items() if row["password-never-expires"]] == [
        *("bare-locked", "bare-reset", "bare-late", "forever")
    ]
    assert found["bare-late"]["password-expires"] is None and found["moved"]["password-expires"] is None
    assert found["late"]["ends"] is None, "the server heeds no shadow attribute"
    assert [name for name, row in found.items() if "password-changed" in (row["unread"] or ())] == ["undated"]
    unknown = rows(read_ldif(tmp_path, text))
    assert {"locked", "password-expires", "password-never-expires"} <= set(unknown["locked"]["unread"])
    assert "password-must-change" in unknown["reset"]["unread"] and unknown["normal"]["locked"] is False


def test_idle_since_it_was_made(tmp_path: Path) -> None:
    """Who never signed in is idle since it was made, if the server's configuration says so; it may be off."""
    plugin = "cn=Account Policy Plugin,cn=plugins,cn=config"
    text = ACCOUNT_POLICIES + ns(
        "new", createTimestamp=stamp(days_ago(31)), acctPolicySubentry="cn=idle,dc=x"
    )
    on, off = (
        entry(plugin, objectClass=["nsSlapdPlugin"], nsslapd_pluginEnabled=word) for word in ("on", "off")
    )

    def told(*more: str) -> Any:
        options = {"default-policy": "cn=pw,dc=x"}
        return rows(read_ldif(tmp_path, text + "".join(more), **options))["new"]["locked"]

    by_creation, by_none = (
        entry(f"cn=config,{plugin}", objectClass=["extensibleObject"], altStateAttrName=name)
        for name in ("createTimestamp", "1.1")
    )
    assert told() is None, "the configuration was not read"
    assert (told(on, by_creation), told(on, by_none), told(off, by_creation)) == (True, False, False)


ACCOUNT_POLICIES = entry(
    "cn=idle,dc=x", objectClass=["ldapsubentry", "accountPolicy"], accountInactivityLimit=30 * 86_400
) + entry(
    "cn=pw,dc=x", objectClass=["ldapsubentry", "passwordPolicy"], passwordExp="on", passwordGraceLimit=2
)


def test_idleness_and_grace_of_the_account_lock_family(tmp_path: Path) -> None:
    """Inactive by the account policy an account names; an expired password is taken while grace lasts."""
    past = stamp(days_ago(1))
    text = ACCOUNT_POLICIES + "".join(
        [
            ns("fresh", lastLoginTime=stamp(days_ago(29)), acctPolicySubentry="cn=idle,dc=x"),
            ns("idle", lastLoginTime=stamp(days_ago(31)), acctPolicySubentry="CN=Idle, DC=x"),
            ns("no-policy", lastLoginTime=stamp(days_ago(400))),
            ns("unread", lastLoginTime=stamp(days_ago(31)), acctPolicySubentry="cn=hidden,dc=x"),
            ns(
                "over",
                lastLoginTime=stamp(days_ago(31)),
                acctPolicySubentry="cn=idle,dc=x",
                accountUnlockTime=past,
            ),
            ns("late", passwordExpirationTime=past, passwordGraceUserTime=1),
            ns("too-late", passwordExpirationTime=past, passwordGraceUserTime=2),
        ]
    )
    found = rows(read_ldif(tmp_path, text, **{"default-policy": "cn=pw,dc=x"}))
    idle = {name: row["locked-since"] for name, row in found.items() if row["lock-cause"] == "inactivity"}
    assert idle == {"idle": days_ago(1), "over": days_ago(1)}
    assert all(found[name]["locked"] and found[name]["locked-until"] is None for name in idle)
    assert found["unread"]["locked"] is None and found["unread"]["unread"] == ["locked"]
    assert found["late"]["password-lapses"] is None and found["too-late"]["password-lapses"] == days_ago(1)
    unknown = rows(read_ldif(tmp_path, text))["late"]
    assert unknown["password-lapses"] is None and "password-lapses" in unknown["unread"]


def test_delegation_is_a_privilege(tmp_path: Path) -> None:
    """Who may act in the names of others holds power over them, named services or all."""
    groups = entry("cn=keepers,dc=x", objectClass=["group"], cn="keepers")
    text = (
        groups
        + DOMAIN
        + uac("web", 512 | 0x80000)
        + uac("app", msDS_AllowedToDelegateTo="sql/db.gvr.example")
        + uac("clerk")
    )
    reading = read_ldif(tmp_path, text, **{"privileged-groups": ["keepers"]})
    told = {name: (row["role"], row["scope"]) for name, row in rows(reading, "grant").items()}
    role = "acting in the name of others"
    assert told == {"web": (role, "any service"), "app": (role, "sql/db.gvr.example")}


DOMAIN = entry("dc=x", objectClass=["domainDNS"], maxPwdAge=-90 * 864_000_000_000, lockoutThreshold=5, lockoutDuration=-18_000_000_000, minPwdLength=14)  # fmt: skip


def uac(name: str, flags: int = 512, **values: Any) -> str:
    usual = {"pwdLastSet": ticks(days_ago(10)), "accountExpires": NEVER}
    return entry(
        f"cn={name},dc=x",
        objectClass=["user"],
        sAMAccountName=name,
        userAccountControl=flags,
        **(usual | values),
    )


def test_the_account_control_family(tmp_path: Path) -> None:
    """Flags, FILETIME with its sentinels, the computed part, the domain's policy, computers."""
    text = DOMAIN + "".join(
        [
            uac("normal", lastLogonTimestamp=ticks(days_ago(4))),
            uac(
                "locked", lockoutTime=ticks(AT - timedelta(minutes=5)), msDS_User_Account_Control_Computed=16
            ),
            uac("over", lockoutTime=ticks(days_ago(1)), msDS_User_Account_Control_Computed=0),
            uac("uncomputed", lockoutTime=ticks(AT - timedelta(minutes=5))),
            uac("off", 514),
            uac("reset", pwdLastSet=0),
            uac("card", 512 | 0x40000, pwdLastSet=0),
            uac("never", 512 | 0x10000),
            uac("ended", accountExpires=ticks(days_ago(1))),
            uac("unended", accountExpires=0),
            uac("told", msDS_UserPasswordExpiryTimeComputed=ticks(AT + timedelta(days=3))),
            uac("machine$", 0x1000 | 0x20),
            uac("optional", 512 | 0x20),
            uac("readable", 512 | 0x80),
        ]
    )
    reading = read_ldif(tmp_path, text, kinds={"*": "person"})
    found = rows(reading)
    assert [name for name, row in found.items() if row["locked"]] == ["locked", "uncomputed"]
    assert found["locked"]["locked-until"] == AT + timedelta(minutes=25)
    assert [name for name, row in found.items() if not row["enabled"]] == ["off"]
    assert [name for name, row in found.items() if row["password-must-change"]] == ["reset"]
    never = [name for name, row in found.items() if row["password-never-expires"]]
    assert never == ["card", "never", "machine$"]
    assert [name for name, row in found.items() if row["password-locked"]] == ["card"]
    assert [name for name, row in found.items() if row["password-optional"]] == ["optional"]
    assert [name for name, row in found.items() if row["password-readable"]] == ["readable"]
    assert [name for name, row in found.items() if row["ends"]] == ["ended"]
    assert found["normal"]["password-expires"] == days_ago(10) + timedelta(days=90)
    assert found["told"]["password-expires"] == AT + timedelta(days=3)
    assert found["normal"]["last-sign-in"] == days_ago(4)
    assert (found["machine$"]["kind"], found["normal"]["kind"]) == ("service", "person")
    (setting,) = rows(reading, "setting").values()
    assert (setting["min-length"], setting["lock-for"]) == (14, timedelta(minutes=30))


def test_members_by_each_attribute(tmp_path: Path) -> None:
    """By DN, by DN with a unique identifier behind it (RFC 4517 3.3.21), by login name."""
    groups = entry("cn=a,dc=x", objectClass=["groupOfNames"], cn="a", member=f"UID=ada, ou=people,{BASE}")
    groups += entry("cn=b,dc=x", objectClass=["groupOfUniqueNames"], cn="b", uniqueMember=[f"uid=ada,ou=people,{BASE}#'0'B", f"uid=bo,ou=people,{BASE}"])  # fmt: skip
    groups += entry("cn=c,dc=x", objectClass=["posixGroup"], cn="c", gidNumber=7, memberUid="bo")
    found = rows(read_ldif(tmp_path, groups + person("ada") + person("bo")))
    assert {name: row["groups"] for name, row in found.items()} == {"ada": ["a", "b"], "bo": ["b", "c"]}


def test_two_numberings_of_groups(tmp_path: Path) -> None:
    """A primary group is named by the last part of its own domain's id; a gidNumber is another number."""

    def sid(domain: int, last: int) -> bytes:
        return (
            b"\x01\x05" + bytes(6) + b"".join(each.to_bytes(4, "little") for each in (21, 1, 2, domain, last))
        )

    groups = entry(
        "cn=Keepers,dc=x", objectClass=["group"], cn="Keepers", objectSid=sid(3, 512), gidNumber=513
    )
    groups += entry("cn=Other,dc=y", objectClass=["group"], cn="Other", objectSid=sid(4, 513))
    text = groups + uac("clerk", primaryGroupID=513, objectSid=sid(3, 1104))
    text += uac("posix", gidNumber=512, primaryGroupID=999) + uac(
        "boss", primaryGroupID=512, objectSid=sid(3, 1105)
    )
    text += uac("neighbour", primaryGroupID=513, objectSid=sid(4, 1104))
    found = rows(read_ldif(tmp_path, text))
    assert {name: row["groups"] for name, row in found.items()} == {
        "clerk": [], "posix": [], "boss": ["Keepers"], "neighbour": ["Other"],
    }  # fmt: skip


def test_the_policy_of_the_domain_that_an_account_stands_in(tmp_path: Path) -> None:
    """CN=Builtin carries the same attributes and is nobody's; each domain has its own; no maximum: never."""
    builtin = entry("cn=Builtin,dc=x", objectClass=["builtinDomain"], maxPwdAge=-864_000_000_000, lockoutThreshold=9, lockoutDuration=-9_000_000_000)  # fmt: skip
    child = entry("dc=sub,dc=x", objectClass=["domainDNS"], maxPwdAge=0)
    text = builtin + DOMAIN + child
    text += uac("here", lockoutTime=ticks(AT - timedelta(minutes=5))) + uac("below")
    text += entry("cn=sub,dc=sub,dc=x", objectClass=["user"], sAMAccountName="sub", userAccountControl=512, pwdLastSet=ticks(days_ago(10)))  # fmt: skip
    reading = read_ldif(tmp_path, text)
    found = rows(reading)
    assert found["here"]["locked-until"] == AT + timedelta(minutes=25)
    assert found["below"]["password-expires"] == days_ago(10) + timedelta(days=90)
    assert (found["sub"]["password-never-expires"], found["sub"]["password-expires"]) == (True, None)
    assert rows(reading, "setting").keys() == {"dc=x", "dc=sub,dc=x"}


def test_membership_by_primary_group(tmp_path: Path) -> None:
    """It is in no member list and no memberOf: an administrator by primary group is one all the same."""
    sid = b"\x01\x05" + bytes(6) + b"".join(each.to_bytes(4, "little") for each in (21, 1, 2, 3, 512))
    groups = entry("cn=Domain Keepers,dc=x", objectClass=["group"], cn="Domain Keepers", objectSid=sid)
    text = groups + uac("boss", primaryGroupID=512) + uac("clerk", primaryGroupID=513)
    reading = read_ldif(tmp_path, text, **{"privileged-groups": ["domain k*", "Domain K*"]})
    assert rows(reading, "grant").keys() == {"boss"}
    assert any('no group is called "domain k*"' in remark for remark in reading.remarks)


def test_fifty_groups_in_a_circle(tmp_path: Path) -> None:
    """Each is in the next; everybody in one is in all, by the shortest path."""
    circle = "".join(
        entry(
            f"cn=g{n},dc=x",
            objectClass=["groupOfNames"],
            cn=f"g{n}",
            member=[f"cn=g{(n + 1) % 50},dc=x", "uid=u,ou=people," + BASE],
        )
        for n in range(50)
    )
    (row,) = rows(read_ldif(tmp_path, circle + person("u"))).values()
    assert sorted(row["groups"]) == sorted(f"g{n}" for n in range(50))


def test_shadow_attributes(tmp_path: Path) -> None:
    """Days since 1970; heeded by hosts, not by the directory, and said so."""
    text = person(
        "u",
        shadowLastChange=20_700,
        shadowMax=90,
        shadowInactive=-1,
        shadowExpire=20_800,
        loginShell="/bin/false",
    )
    reading = read_ldif(tmp_path, text)
    (row,) = rows(reading).values()
    day = datetime(1970, 1, 1, tzinfo=UTC)
    assert row["ends"] == day + timedelta(days=20_800) and row["password-expires"] == day + timedelta(
        days=20_790
    )
    assert row["password-lapses"] is None and row["interactive"] is False
    assert any("the directory does not" in remark for remark in reading.remarks)


def certificate(days: int) -> bytes:
    key = ec.generate_private_key(ec.SECP256R1())
    name = x509.Name([x509.NameAttribute(x509.NameOID.COMMON_NAME, "test ca")])
    begun = datetime(2026, 1, 1, tzinfo=UTC)
    built = x509.CertificateBuilder().subject_name(name).issuer_name(name).public_key(key.public_key())
    built = built.serial_number(4711).not_valid_before(begun).not_valid_after(begun + timedelta(days=days))
    return built.sign(key, hashes.SHA256()).public_bytes(Encoding.DER)


def test_certificates_and_ssh_keys(tmp_path: Path) -> None:
    """With their validity; a value that is none is counted, and nothing else is lost."""
    text = person(
        "u",
        **{"userCertificate;binary": [certificate(365), b"nonsense"], "sshPublicKey": [KEY, "ssh-rsa AAAA"]},
    ) + person("v")
    reading = read_ldif(tmp_path, text)
    found = list(reading.tables["key"].iter_rows(named=True))
    assert [(row["kind"], row["key"]) for row in found] == [
        ("certificate", "serial 1267"),
        ("ssh-key", "SHA256:LKu3Tx33JxDlb4FbOxKRilazsQhTCW+bppuYkgRU8k0"),
    ]
    assert found[0]["expires"] == datetime(2027, 1, 1, tzinfo=UTC) and found[0]["bits"] == 256
    assert reading.intake["key"].refused == 2


@pytest.mark.parametrize(
    ("value", "scheme"),
    [
        (b"{SSHA}abc", "other"),
        (b"{CRYPT}$6$salt$x", "sha512"),
        (b"{crypt}$y$j9T$x", "yescrypt"),
        (b"{ARGON2}$argon2id$x", "argon2"),
        (b"{PBKDF2-SHA256}x", "pbkdf2"),
        (b"{SMD5}x", "md5"),
        (b"{CRYPT}abcdefghijklm", "des"),
        (b"plain", "other"),
        (b"{CLEARTEXT}plain", "other"),
        (b"{clear}plain", "other"),
    ],
)
def test_schemes_of_passwords(value: bytes, scheme: str) -> None:
    """By what stands in front; the rest is dropped. What has no scheme can be read by whoever sees it."""
    assert password_scheme([value]) == scheme
    assert is_readable([value]) == (b"plain" in value)


def test_no_hash_leaves_the_reader(tmp_path: Path) -> None:
    """Only that there is a password, and its scheme."""
    reading = read_ldif(tmp_path, person("u", userPassword="{SSHA512}planted-hash") + person("v"))
    found = rows(reading)
    assert (found["u"]["has-password"], found["v"]["has-password"], found["u"]["password-scheme"]) == (
        True,
        False,
        "sha512",
    )
    assert "planted" not in repr([table.write_json() for table in reading.tables.values()]) + repr(reading)


def test_accounts_of_one_login_name_are_all_kept(tmp_path: Path) -> None:
    """The second goes by its DN."""
    text = (
        person("u")
        + entry("uid=u,ou=old,dc=x", objectClass=["person"], uid="u")
        + entry("uid=U, ou=old,dc=x", objectClass=["person"], uid="u")
    )
    reading = read_ldif(tmp_path, text)
    assert rows(reading).keys() == {"u", "uid=u,ou=old,dc=x"}
    assert any("stand twice" in remark for remark in reading.remarks)


def test_values_that_are_not_text(tmp_path: Path) -> None:
    """Bytes that are no UTF-8, names with commas and line breaks in them."""
    strange = entry(
        "cn=Doe\\, John\\0aX,dc=x",
        objectClass=["person"],
        cn=b"J\xf6rg",
        uid=b"\xff\x00u",
        employeeNumber="7",
    )
    boss = person("boss", manager="CN=doe\\2c john\\0Ax , dc=X")
    found = rows(read_ldif(tmp_path, strange + boss))
    assert found["boss"]["manager"] == "\ufffd\x00u"
    assert found["\ufffd\x00u"]["display"] == "J\ufffdrg"


def test_the_lockout_of_a_policy_in_force(tmp_path: Path) -> None:
    """How many failures lock, for how long and within what they are counted: each from its own attribute."""
    policy = entry(
        "cn=policy,dc=x", objectClass=["top", "passwordPolicy"], cn="policy", passwordLockout="on",
        passwordMaxFailure="7", passwordLockoutDuration="900", passwordResetFailureCount="600", passwordMinLength="11", passwordCheckSyntax="on",
    )  # fmt: skip
    reading = read_ldif(tmp_path, person("u") + "\n" + policy, **{"default-policy": "cn=policy,dc=x"})
    (row,) = reading.tables["setting"].iter_rows(named=True)
    assert (row["lock-after"], row["lock-for"], row["count-within"], row["min-length"]) == (
        7, timedelta(minutes=15), timedelta(minutes=10), 11,
    )  # fmt: skip


@examples(150)
@given(
    st.binary(max_size=300) | st.text("dn:=,\n #<cn\\uid;a1Z+0 ", max_size=200).map(str.encode),
    st.integers(0, 200),
)
def test_any_bytes_are_read_or_counted(tmp_path: Path, noise: bytes, cut: int) -> None:
    """Never a traceback; an entry that stands by itself is read whatever stands around it."""
    whole = person("u", pwdChangedTime="20261124020732Z", member="x", shadowMax="9" * 30).encode()
    for text in (noise, whole + b"\n" + noise, whole[:cut] + noise + whole[cut:]):
        try:
            reading = read_ldif(tmp_path, text)
        except KeymalletError:
            assert not text.startswith(whole), "an entry that is sound is read"
            continue
        if text.startswith(whole):
            assert "u" in rows(reading)


@pytest.mark.parametrize(
    ("admins", "place"),
    [
        (["uid=b,ou=p,o=x", "uid=a,ou=p,o=x"], True),
        (["UID=B , ou=P,o=X", "uid=a,ou=p,o=x"], True),
        (["uid=b,ou=p,o=x"], False),
        (["uid=b,ou=p,o=x", "cn=ops,o=x"], False),
        (["cn=ops,o=x"], False),
    ],
    ids=["one of two", "spelt otherwise", "the last", "directly and through another", "through another"],
)
def test_where_a_right_is_held(tmp_path: Path, admins: list[str], place: bool) -> None:
    """Only where leaving that group ends it, and the group may be left: the member's line as it stands there."""
    text = entry("uid=b,ou=p,o=x", objectClass="person", uid="b")
    text += entry("cn=ops,o=x", objectClass="groupOfNames", cn="ops", member="uid=b,ou=p,o=x")
    text += entry("cn=admins,o=x", objectClass="groupOfNames", cn="admins", member=admins)
    row = rows(read_ldif(tmp_path, text, **{"privileged-groups": ["admins"]}), "grant")["b"]
    assert (row["stands-at"], row["as-found"]) == (
        ("cn=admins,o=x", [f"member: {admins[0]}"]) if place else (None, None)
    )


def test_a_group_of_everybody_is_read_in_time(tmp_path: Path) -> None:
    """Where each right is held is looked up, not searched for among all members: else 6,000 take half a minute."""
    names = [f"uid=u{number},ou=p,o=x" for number in range(6_000)]
    text = "".join(
        f"dn: {name}\nobjectClass: person\nuid: {name[4:].partition(',')[0]}\n\n" for name in names
    )
    text += "dn: cn=all,o=x\nobjectClass: groupOfNames\ncn: all\n" + "".join(
        f"member: {name}\n" for name in names
    )
    began = time.process_time()
    reading = read_ldif(tmp_path, text + "\n", **{"privileged-groups": ["all"]})
    assert time.process_time() - began < 12
    assert reading.tables["grant"]["stands-at"].to_list() == ["cn=all,o=x"] * len(names)
