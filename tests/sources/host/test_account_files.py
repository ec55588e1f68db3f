"""Linux account files: which lines the system takes, and what they say of an account."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from keymallet.core.base.problems import KeymalletError
from keymallet.sources.host.hosts import read
from keymallet.sources.host.lines import (
    DroppedError,
    odd_passwd,
    odd_shadow,
    parse_group,
    parse_passwd,
    parse_shadow,
    stored_form,
)
from keymallet.sources.request import Request
from keymallet.sources.sections import HostSection
from tests.profiles import examples
from tests.sources.host.support import HASH, read_hosts
from tests.support import AT, CLOCK, write

EPOCH = datetime(1970, 1, 1, tzinfo=UTC)


def account(
    folder: Path, shadow: str, passwd: str = "u:x:1000:1000:U,,,:/home/u:/bin/sh", **options: Any
) -> dict[str, Any]:
    """The facts of one account from its two lines."""
    write(folder, {"h/etc/passwd": passwd + "\n", "h/etc/shadow": shadow + "\n"})
    (reading,) = read_hosts(folder, **options)
    return reading.tables["account"].row(0, named=True)


@pytest.mark.parametrize(
    ("line", "taken"),
    [
        ("u:x:1000:1000:U:/home/u:/bin/sh", ("u", 1000, "/bin/sh")),
        (" u:x:1000:1000:U:/home/u:/bin/sh", ("u", 1000, "/bin/sh")),
        ("few:x:5000:5000", ("few", 5000, "")),
        ("u:x:000:0:::/bin/sh", ("u", 0, "/bin/sh")),
        ("u:x: 5:+5:::/bin/sh", ("u", 5, "/bin/sh")),
        ("u:x:1:1:::/bin/bash:extra", ("u", 1, "/bin/bash:extra")),
        ("u:x:4294967295:1:::/bin/sh", ("u", 4294967295, "/bin/sh")),
        (":x:5010:5010:::", ("", 5010, "")),
        ("u:x::1000:::", None),
        ("u:x:-1:1000:::", None),
        ("u:x:0x10:1000:::", None),
        ("u:x:4294967296:1000:::", None),
        ("u:x:٣:1000:::", None),
        ("u:x:1000", None),
        ("+nis:::::", None),
        ("+", None),
        ("garbage", None),
    ],
)
def test_passwd_lines_are_taken_as_the_system_takes_them(
    line: str, taken: tuple[str, int, str] | None
) -> None:
    """Measured with getent: some odd lines count, others are dropped whole."""
    if taken is None:
        with pytest.raises(DroppedError):
            parse_passwd(line)
    else:
        entry = parse_passwd(line)
        assert (entry.name, entry.uid, entry.shell) == taken


@pytest.mark.parametrize(
    ("line", "taken"),
    [
        ("u:*:20000:0:90:7:30:20500:", (20000, 90, 30, 20500)),
        ("u:*:20000:0:90:7:30:20500", (20000, 90, 30, 20500)),
        ("u:*:20000:0:90", (20000, 90, None, None)),
        ("u:*:20000:0:", None),
        ("u:*:-0:-00:90:7:::", (0, 90, None, None)),
        ("u:*:20000:0:90:7::4294967294:", (20000, 90, None, -2)),
        ("u:*: 5:+5:0090:7:::", (5, 90, None, None)),
        ("u:*:4294967295:0:90:7:::", (None, 90, None, None)),
        ("u:*:2147483648:0:90:7:::", (-2147483648, 90, None, None)),
        ("u:*:20000:0:90:7:30:", None),
        ("u:*:20000:0", None),
        ("u:*", None),
        ("u:*:20000:0:90:7:30", None),
        ("u:*:20000:0:90:7:30:20500::", None),
        ("u:*:-1:0:90:7:::", None),
        ("u:*:5 :0:90:7:::", None),
        ("u:*:0x5:0:90:7:::", None),
        ("u:*:abc:0:90:7:::", None),
        ("u:*:4294967296:0:90:7:::", None),
        ("u:*:20000:0:90:7:::\r", None),
        ("+u:*:20000:0:90:7:::", None),
    ],
)
def test_shadow_lines_are_taken_as_the_system_takes_them(
    line: str, taken: tuple[int | None, ...] | None
) -> None:
    """A number the C library does not like costs the whole line."""
    if taken is None:
        with pytest.raises(DroppedError):
            parse_shadow(line)
    else:
        entry = parse_shadow(line)
        assert (entry.last_change, entry.maximum, entry.inactive, entry.expires) == taken


B = "a" * 90
FORMS = {
    HASH: (True, "sha512"),
    "$y$j9T$salt$" + B[:43]: (True, "yescrypt"),
    "$gy$j9T$salt$" + B[:43]: (True, "yescrypt"),
    "$2b$10$" + B[:53]: (True, "bcrypt"),
    "$7$CU..../....salt$" + B[:43]: (True, "scrypt"),
    "$5$salt$" + B[:43]: (True, "sha256"),
    "$6$rounds=5000$salt$" + B[:86]: (True, "sha512"),
    "$6$$" + B[:86]: (True, "sha512"),
    "$sha1$1000$salt$" + B[:28]: (True, "pbkdf2"),
    "$1$salt$" + B[:22]: (True, "md5"),
    "$md5,rounds=5000$salt$$" + B[:22]: (True, "md5"),
    "$3$$" + "0f" * 16: (True, "other"),
    B[:13]: (True, "des"),
    B[:13] + " ": (True, "des"),
    B[:13] + ",ab..": (True, "des"),
    B[:24]: (True, "des"),
    # cut off, or with something behind: no password matches
    HASH[:-1]: (False, None),
    HASH + "x": (False, None),
    HASH + " ": (False, None),
    "$1$salt$" + B[:21]: (False, None),
    "$2b$10$" + B[:52]: (False, None),
    B[:12]: (False, None),
    B[:14]: (False, None),
    "*" + HASH: (False, None),
    # taken by some systems, or not known here: nobody can tell
    "$argon2id$v=19$m=65536$salt$" + B[:43]: (None, "argon2"),
    "_" + B[:19]: (None, "des"),
    "$z$salt$hash": (None, None),
    **dict.fromkeys(("*", "x", "NP", "*LK*", "$", "-", "locked"), (False, None)),
}


@pytest.mark.parametrize(("password", "form"), FORMS.items())
def test_the_form_of_a_password(password: str, form: tuple[bool | None, str | None]) -> None:
    """Whether a password can match it, by the shape of the hash, and how it is hashed."""
    assert stored_form(password) == form


def test_a_password_of_an_unknown_form_is_not_none(tmp_path: Path) -> None:
    """Whether there is one is unknown, and so is the factor it would be."""
    row = account(tmp_path, "u:$z$salt$hash:20000:0:99999:7:::")
    assert (row["has-password"], row["password-scheme"], row["password-locked"]) == (None, None, False)
    assert set(row["unread"]) >= {"has-password", "password-scheme"}


@pytest.mark.parametrize(
    ("field", "has", "empty", "barred", "locked"),
    [
        (HASH, True, False, False, None),
        ("!" + HASH, True, False, True, True),
        ("!!", False, False, True, None),
        ("!", False, False, True, None),
        ("*", False, False, True, None),
        ("x", False, False, False, None),
        ("", True, True, False, None),
    ],
)
def test_password_and_lock(
    tmp_path: Path, field: str, has: bool, empty: bool, barred: bool, locked: bool | None
) -> None:
    """An exclamation mark before a hash was put there by an administrator; without one no lock is known."""
    facts = account(tmp_path, f"u:{field}:20000:0:90:7:::")
    assert (facts["has-password"], facts["password-empty"], facts["password-locked"]) == (has, empty, barred)
    assert (facts["locked"], facts["lock-cause"]) == (locked, "administrator" if locked else None)


def day(number: int) -> datetime:
    return EPOCH + timedelta(days=number)


@pytest.mark.parametrize(
    ("ageing", "pam", "expected"),
    [
        (
            "20000:0:90:7:::",
            "1.7",
            {"password-changed": day(20000), "password-expires": day(20090), "password-never-expires": False},
        ),
        ("20000:0:90:7:::", "1.5", {"password-expires": day(20091), "password-must-change": False}),
        ("0:0:90:7:::", "1.7", {"password-changed": None, "password-must-change": True}),
        (":0:90:7:::", "1.7", {"password-must-change": False, "password-never-expires": True}),
        (":0:90:7:::", "1.5", {"password-must-change": True, "password-never-expires": False}),
        ("20000:0:99999:7:::", "1.7", {"password-never-expires": True, "password-expires": None}),
        ("20000:0::7:::", "1.7", {"password-never-expires": True}),
        ("20000:0:90:7::20500:", "1.7", {"ends": day(20500), "enabled": True}),
        ("20000:0:90:7:::", "1.7", {"ends": None, "enabled": True}),
        ("20000:0:90:7::0:", "1.7", {"ends": None, "enabled": False}),
        ("20000:0:90:7::1:", "1.7", {"ends": None, "enabled": False}),
        ("20000:0:90:7::20261231:", "1.7", {"ends": None, "enabled": True}),
    ],
)
def test_ageing_by_the_systems_own_rule(
    tmp_path: Path, ageing: str, pam: str, expected: dict[str, Any]
) -> None:
    """Days are midnights in UTC; the two releases of PAM differ on the very day."""
    facts = account(tmp_path, f"u:{HASH}:{ageing}", pam=pam)
    assert {name: facts[name] for name in expected} == expected


def test_a_password_in_passwd_itself_ignores_all_ageing(tmp_path: Path) -> None:
    """The system uses it and looks at nothing in shadow."""
    facts = account(tmp_path, f"u:{HASH}:0:0:1:7::1:", passwd=f"u:{HASH}:1000:1000:::/bin/sh")
    assert (facts["has-password"], facts["password-must-change"], facts["enabled"]) == (True, False, True)


def test_no_line_in_shadow_means_no_password_works(tmp_path: Path) -> None:
    """Not that there is none to worry about: it is said."""
    facts = account(tmp_path, f"other:{HASH}:20000:0:90:7:::")
    assert facts["has-password"] is False


def test_a_fleet_with_all_sorts_of_lines(tmp_path: Path) -> None:
    """Each host is a source; lines the system drops are counted with file and line; the rest counts."""
    long = "x" * 70_000
    shadow = f"# comment\n\na:{HASH}:20000:0:90:7:::\nb:{HASH}:abc:0:90:7:::\n+::::::::\na:*:1:0:1:7:::\ncut:{HASH}\nghost:*:1:0:1:7:::\n"
    write(
        tmp_path,
        {
            "h/one/etc/passwd": f"a:x:1000:50:A:/:/bin/sh\nb:x:1001:50::/:/usr/sbin/nologin\nzero:x:00:0:{long}:/:/bin/sh\r\n+::::::\nm\xff:x:1002:50:::\n".encode(
                "latin-1"
            ),
            "h/one/etc/shadow": shadow,
            "h/one/etc/group": "staff:x:50:\nops:x:60:a,b\nbroken\n",
            "h/one/etc/gshadow": "staff:!::\nops:!::a\n",
            "h/one/etc/login.defs": "UID_MIN 1001\n",
            "h/two/etc/passwd": "svc-x:x:2000:1:::/bin/sh\np:x:2001:1:::/bin/sh\n"
            "svc-y:x:200:1:::/bin/sh\ndaemon:x:1:1:::/bin/sh\nsvc-z:x:0:0:::/bin/sh\n",
            "h/junk/readme": "",
        },
    )
    one, two = read_hosts(tmp_path, kinds={"svc-*": "service", "p": "guest", "*": "person"})
    assert (one.source, two.source) == ("h/one", "h/two")
    assert one.tables["account"].select(
        "name", "stable-id", "kind", "interactive", "groups", "has-password"
    ).rows() == [
        ("a", "1000", "system", True, ["staff", "ops"], True),
        ("b", "1001", "person", False, ["staff", "ops"], False),
        ("zero", "0", "system", False, [], False),
        ("mÿ", "1002", "person", True, ["staff"], False),
    ]
    refused = {(each.file, each.line) for each in one.intake["account"].refusals}
    assert refused == {
        ("h/one/etc/passwd", 4),
        ("h/one/etc/shadow", 4),
        ("h/one/etc/shadow", 5),
        ("h/one/etc/shadow", 6),
        ("h/one/etc/shadow", 7),
        ("h/one/etc/group", 3),
    }
    assert any("no account in passwd for ghost" in remark for remark in one.remarks)
    assert any("other members than in group for ops" in remark for remark in one.remarks)
    assert any("1 comment line" in remark for remark in one.remarks)
    # A name that the estate gives goes before the number, "*" does not; whoever has that of root is root.
    kinds = two.tables["account"]["kind"].to_list()
    assert kinds == ["service", "guest", "service", "system", "system"]
    assert "has-password" not in two.supply["account"], "without shadow nothing is known of passwords"
    assert any("no etc/passwd in junk" in remark for remark in one.remarks)


def test_no_host_at_all_is_an_error(tmp_path: Path) -> None:
    """A wrong path must not look like an empty fleet."""
    (tmp_path / "h").mkdir()
    for folder in ("h", "nowhere"):
        with pytest.raises(KeymalletError), ThreadPoolExecutor(1) as workers:
            read(HostSection(read="host", folder=folder), Request("h", tmp_path, CLOCK, AT, workers))


@examples(100)
@given(st.binary(max_size=300), st.binary(max_size=300), st.text("u:x0123!*$+-# \n\r", max_size=200))
def test_any_bytes_are_read_or_counted(tmp_path: Path, passwd: bytes, shadow: bytes, like: str) -> None:
    """Never a traceback; each line is an account, a note, blank or a comment."""
    for data in (passwd, like.encode(), b"u:x:1:1:::\n" + like.encode()):
        write(tmp_path, {"h/etc/passwd": data, "h/etc/shadow": shadow + like.encode(), "h/etc/group": shadow})
        (reading,) = read_hosts(tmp_path)
        lines = [line.strip(" \t\r\v\f") for line in data.decode("latin-1").split("\n")]
        records = [line for line in lines if line and not line.startswith("#")]
        refused = [each for each in reading.intake["account"].refusals if each.file == "h/etc/passwd"]
        assert reading.tables["account"].height + len(refused) == len(records)
        if data.startswith(b"u:x:1:1:::\n"):
            assert "u" in reading.tables["account"]["name"].to_list(), "one that is sound is read"


def test_groups() -> None:
    """Members are names between commas; a line without enough fields is dropped."""
    assert parse_group("g:x:5:a, b,,").members == ("a", "b")
    with pytest.raises(DroppedError):
        parse_group("g:x")


@pytest.mark.parametrize(
    ("line", "reading"),
    [
        ("u:x:1:1:U:/:/bin/sh", ""),
        ("few:x:5:5", "the fields that are missing are empty; an empty shell is /bin/sh"),
        (" u:x:000:0::/:/bin/sh", 'the blank before the name is left away; "000" is read as 0'),
        ("u:x:1:1::/:/bin/sh:more", "all behind the sixth colon is the shell"),
        ("u:x:1:1::/:/bin/sh\r", "the carriage return belongs to the shell, which does not exist"),
        (":x:1:1::/:/bin/sh", "the name is empty"),
    ],
)
def test_odd_lines_of_passwd_say_how_they_are_read(line: str, reading: str) -> None:
    """What the system takes in spite of its looks is taken, and told."""
    assert parse_passwd(line) is not None
    assert odd_passwd(line) == reading


@pytest.mark.parametrize(
    ("line", "reading"),
    [
        ("u:*:20000:0:90:7:::", ""),
        ("u:*:20000:0:90", "5 fields are taken as the rest being empty"),
        ("u:*: 5:+5:0090:7:::", '" 5" is read as 5; "+5" is read as 5; "0090" is read as 90'),
        ("u:*:2147483648:0:90:7:::", "a number of more than 31 bits counts as a negative one"),
    ],
)
def test_odd_lines_of_shadow_say_how_they_are_read(line: str, reading: str) -> None:
    """The same for shadow."""
    assert parse_shadow(line) is not None
    assert odd_shadow(line) == reading


def test_many_odd_lines_do_not_drown_the_notes(tmp_path: Path) -> None:
    """The first few are told one by one."""
    passwd = "".join(f"u{number}:x:{number}:0{number}\n" for number in range(1, 40))
    write(tmp_path, {"h/etc/passwd": passwd})
    (reading,) = read_hosts(tmp_path)
    assert sum("taken as it is" in remark for remark in reading.remarks) == 20
    assert any("more such lines" in remark for remark in reading.remarks)
