"""sudo's rules: read as sudo reads them, compared with its own converter, and turned into grants."""

from __future__ import annotations

import json
import subprocess
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from keymallet.sources.host.sudo_scan import Member
from keymallet.sources.host.sudoers import Command, Sudoers, read_sudoers
from tests.oracles import program
from tests.profiles import examples
from tests.sources.host.support import account, host_files, refused, rows_of
from tests.support import write

PASSWD = "u:x:1000:1000:U,,,:/home/u:/bin/sh"
GROUPS = "root:x:0:\nu:x:1000:\nwheel:x:10:u\nops:x:50:other\n"

POLICY = r"""
# Who may do what
Defaults        env_reset, timestamp_timeout=5
Defaults:alice  !authenticate
Defaults!/usr/bin/less noexec
User_Alias      ADMINS = alice, bob, %wheel : FEW = #1000, !carol
Runas_Alias     WEB = www-data, %#33
Host_Alias      SHOPS = shop1, shop2.gvr.example, 192.0.2.0/24
Cmnd_Alias      STOP = /usr/bin/systemctl stop tix, \
                       /sbin/halt "", sudoedit /etc/motd
root            ALL=(ALL:ALL) ALL
ADMINS          SHOPS = (root, WEB) NOPASSWD: SETENV: STOP, PASSWD: /bin/ls, !/bin/sh
%ops,dave       ALL = /usr/bin/id -u, (:adm) /bin/cat /var/log/syslog : shop1 = NOEXEC: ALL
erin            ALL = NOTBEFORE=20261101060000Z NOTAFTER=20261231120000Z /usr/bin/true
FEW             ALL = (ALL) TIMEOUT=1h30m /bin/echo a\,b\=c\:d
%#50            ALL = (#0) sha224:0GomF8mNN3wlDt1HD9XldjJ3SNgpFdbjO1+NsQ== /bin/ls, /bin/true
"frank smith"   ALL = ALL
!gina, +netters ALL = (ALL, !root) /usr/bin/*, ! /usr/bin/passwd root
"""


def flat_ours(found: Sudoers) -> list[Any]:
    """Our rules in a form both can be brought to: one entry for each command on each host list."""
    return [
        [_words(rule.users), _words(rule.hosts), *_of(command)]
        for rule in found.rules
        for command in rule.commands
    ]


def _words(members: tuple[Member, ...]) -> list[str]:
    return [("!" if each.negated else "") + each.word for each in members]


def _of(command: Command) -> list[Any]:
    return [
        command.text,
        command.negated,
        None if command.runas is None else _words(command.runas),
        _words(command.runas_groups),
        command.asks_password,
        f"{command.starts:%Y%m%d%H%M%SZ}" if command.starts else None,
        f"{command.last:%Y%m%d%H%M%SZ}" if command.last else None,
    ]


def flat_theirs(told: dict[str, Any]) -> list[Any]:
    """The converter's rules in the same form."""
    rows = []
    for spec in told.get("User_Specs", []):
        users = [_named(each) for each in spec["User_List"]]
        hosts = [_named(each) for each in spec["Host_List"]]
        for commands in spec["Cmnd_Specs"]:
            options = {key: value for each in commands.get("Options", []) for key, value in each.items()}
            runas = [_named(each) for each in commands["runasusers"]] if "runasusers" in commands else None
            groups = [_named(each).removeprefix("%") for each in commands.get("runasgroups", [])]
            if runas is None and groups:
                runas = []
            for each in commands["Commands"]:
                text = each.get("command", each.get("cmndalias", ""))
                rows.append(
                    [
                        users,
                        hosts,
                        text,
                        each.get("negated", False),
                        runas,
                        groups,
                        *map(options.get, _OPTIONS),
                    ]
                )
    return rows


_OPTIONS = ("authenticate", "notbefore", "notafter")
_SIGNS = {"usergroup": "%", "userid": "#", "usergid": "%#", "netgroup": "+"}


def _named(member: dict[str, Any]) -> str:
    (kind,) = member.keys() - {"negated"}
    return ("!" if member.get("negated") else "") + _SIGNS.get(kind, "") + str(member[kind])


def converted(path: Path) -> dict[str, Any]:
    """What sudo's converter makes of a file."""
    words = [program("cvtsudoers"), "-f", "json", "-c", "/dev/null", str(path)]
    done = subprocess.run(words, capture_output=True, text=True, env={"TZ": "UTC0"}, check=True)
    return json.loads(done.stdout)  # type: ignore[no-any-return]


def parsed(tmp_path: Path, text: str) -> Sudoers:
    """Our reading of a policy; nothing of it may be skipped."""
    found = policy(tmp_path, text)
    assert found.skipped == 0
    return found


def policy(tmp_path: Path, text: str) -> Sudoers:
    write(tmp_path, {"h/etc/sudoers": text})
    with host_files(tmp_path) as files:
        found = read_sudoers(files, "UTC", "shop1.gvr.example")
    assert found is not None
    return found


def test_agrees_with_sudos_own_converter(tmp_path: Path) -> None:
    """Users, hosts, run-as, tags, times, commands and aliases of a policy that uses all of them."""
    ours = parsed(tmp_path, POLICY)
    told = converted(tmp_path / "h/etc/sudoers")
    assert flat_ours(ours) == flat_theirs(told)
    aliases = {"User": "User_Aliases", "Runas": "Runas_Aliases", "Host": "Host_Aliases"}
    for kind, theirs in aliases.items():
        named = {name: [_named(each) for each in members] for name, members in told[theirs].items()}
        assert {name: _words(members) for name, members in ours.aliases[kind].items()} == named


NAMES = st.sampled_from(["alice", "bob", "%wheel", "#1000", "%#27", "+nets", "ALL", "!bob", "o\\,x"])
COMMANDS = st.sampled_from(
    ["ALL", "/bin/ls", "/bin/ls -l /tmp", "!/bin/sh", "/usr/bin/*", "sudoedit /etc/hosts", "/bin/a\\,b"]
)
RUNAS = st.sampled_from(["", "(ALL) ", "(root) ", "(ALL:ALL) ", "(:adm) ", "(bob, !root) ", "(#0) "])
TAGS = st.sampled_from(["", "NOPASSWD: ", "PASSWD: ", "NOEXEC: ", "SETENV:NOPASSWD: "])
# The converter gives commands that differ only in their times the first one's: so here they agree.
TIMES = st.sampled_from(["", "NOTAFTER=20270101000000Z ", "NOTBEFORE=2026110106Z "])


@st.composite
def rules(draw: st.DrawFn) -> str:
    users = ", ".join(draw(st.lists(NAMES, min_size=1, max_size=3)))
    parts = []
    for _ in range(draw(st.integers(1, 2))):
        commands = draw(RUNAS) + draw(TIMES) + draw(TAGS) + draw(COMMANDS)
        for _ in range(draw(st.integers(0, 2))):
            commands += ", " + draw(RUNAS) + draw(TAGS) + draw(COMMANDS)
        parts.append(f"{draw(st.sampled_from(['ALL', 'shop1', 'shop1, !shop2']))} = {commands}")
    return f"{users} {' : '.join(parts)}\n"


@examples(40)
@given(st.lists(rules(), min_size=1, max_size=8))
def test_agrees_on_random_policies(tmp_path_factory: pytest.TempPathFactory, lines: list[str]) -> None:
    """Rules put together at random, as long as sudo's converter takes them."""
    folder = tmp_path_factory.mktemp("sudo")
    ours = parsed(folder, "".join(lines))
    assert flat_ours(ours) == flat_theirs(converted(folder / "h/etc/sudoers"))


@pytest.mark.parametrize(
    "line",
    [
        "u ALL",
        "u = ALL",
        "u ALL=(root ALL",
        "u ALL=bin/ls",
        'u ALL=CWD="/srv ALL',
        "u ALL=NOTAFTER=20261231Z ALL",
        "u ALL=NOTAFTER=20261331000000Z ALL",
        "User_Alias lower = u",
        "User_Alias",
        "Defaults=x",
        "u ALL=ALL,",
        '"" ALL=ALL',
    ],
)
def test_a_bad_line_is_skipped_and_counted(tmp_path: Path, line: str) -> None:
    """As sudo does it: the rest counts."""
    write(tmp_path, {"h/etc/sudoers": f"{line}\nu ALL=(ALL) ALL\n", "h/etc/group": GROUPS})
    reading, _ = account(tmp_path)
    assert refused(reading) == {("h/etc/sudoers", 1)}
    assert [row["role"] for row in rows_of(reading, "grant")] == ["sudo as anybody"]


def grants(
    tmp_path: Path, text: str, *, host: str = "shop1.gvr.example", **files: str
) -> list[dict[str, Any]]:
    write(tmp_path, {"h/etc/sudoers": text, "h/etc/group": GROUPS, "h/etc/hostname": f"{host}\n"})
    write(tmp_path, {f"h/{path.replace('__', '/')}": each for path, each in files.items()})
    return rows_of(account(tmp_path)[0], "grant")


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        ("u ALL=(ALL:ALL) ALL", [("sudo as anybody", True, "direct", True, "ALL")]),
        (
            "%wheel ALL=NOPASSWD: /bin/a, /bin/b",
            [("sudo as root", True, "group wheel", False, "/bin/a, /bin/b")],
        ),
        ("#1000 ALL=(www-data) ALL", [("sudo as www-data", False, "direct", True, "ALL")]),
        ("%#10 ALL=(#0) ALL", [("sudo as #0", True, "group wheel", True, "ALL")]),
        ("User_Alias A = x, u\nA ALL=ALL", [("sudo as root", True, "direct", True, "ALL")]),
        ("User_Alias A = ALL, !u\nA ALL=ALL", []),
        ("ALL, !u ALL=ALL", []),
        ("!u, ALL ALL=ALL", [("sudo as root", True, "everyone", True, "ALL")]),
        ("%ops ALL=ALL", []),
        ("u shop2=ALL", []),
        ("u shop1=ALL", [("sudo as root", True, "direct", True, "ALL")]),
        ("Host_Alias S = shop*\nu S, !shop1=ALL", []),
        ("u ALL=(:adm) ALL", [("sudo as oneself", False, "direct", True, "ALL")]),
        ("u ALL=(ALL, !root) ALL", [("sudo as ALL, !root", False, "direct", True, "ALL")]),
        ("u ALL=!ALL", []),
        (
            "u ALL=NOPASSWD: ALL\n%wheel ALL=(ALL) ALL",
            [("sudo as anybody", True, "group wheel", True, "ALL")],
        ),
        (
            "%wheel ALL=(ALL) ALL\nu ALL=(ALL) NOPASSWD: ALL",
            [("sudo as anybody", True, "direct", False, "ALL")],
        ),
        ("u ALL=ALL\nu ALL=!ALL", []),
        ("Cmnd_Alias EVERY = ALL\nu ALL=ALL\nu ALL=!EVERY", []),
        ("u ALL=(ALL) ALL\nu ALL=(root) !ALL", [("sudo as anybody, not root", False, "direct", True, "ALL")]),
        ("u ALL=(%root) /bin/a", [("sudo as %root", True, "direct", True, "/bin/a")]),
        ("u ALL=(%ops) /bin/a", [("sudo as %ops", False, "direct", True, "/bin/a")]),
        ("Defaults runas_default=operator\nu ALL=ALL", [("sudo as operator", False, "direct", True, "ALL")]),
        ("Defaults:x runas_default=operator\nu ALL=ALL", [("sudo as root", True, "direct", True, "ALL")]),
        (
            "Runas_Alias R = x, !root\nu ALL=(ALL, R) /bin/a",
            [("sudo as ALL, R", False, "direct", True, "/bin/a")],
        ),
        ("User_Alias A = ALL, !u\nALL, A ALL=ALL", []),
        ("User_Alias A = ALL, !u\n!A ALL=ALL", [("sudo as root", True, "direct", True, "ALL")]),
        ("Defaults>x !authenticate\nu ALL=(ALL) ALL", [("sudo as anybody", True, "direct", True, "ALL")]),
        ("Defaults>root !authenticate\nu ALL=(ALL) ALL", [("sudo as anybody", True, "direct", False, "ALL")]),
        ("u ALL=!ALL, /bin/b", [("sudo as root", True, "direct", True, "not ALL, /bin/b")]),
        ("u ALL=/bin/b, !ALL", []),
        ("Defaults !authenticate\nu ALL=ALL", [("sudo as root", True, "direct", False, "ALL")]),
        ("Defaults:%wheel !authenticate\nu ALL=ALL", [("sudo as root", True, "direct", False, "ALL")]),
        ("Defaults:%ops !authenticate\nu ALL=ALL", [("sudo as root", True, "direct", True, "ALL")]),
        ("Defaults exempt_group=wheel\nu ALL=ALL", [("sudo as root", True, "direct", False, "ALL")]),
        ("Defaults !authenticate\nu ALL=PASSWD: ALL", [("sudo as root", True, "direct", True, "ALL")]),
    ],
)
def test_grants(tmp_path: Path, text: str, expected: list[tuple[Any, ...]]) -> None:
    """Who may do what as whom, how it comes about, and whether a password is asked; the last rule wins."""
    names = ("role", "privileged", "via", "asks-proof", "scope")
    assert [tuple(row[name] for name in names) for row in grants(tmp_path, text + "\n")] == expected


def test_times_of_a_rule(tmp_path: Path) -> None:
    """Both ends are inclusive; without a zone they are in the host's own clock."""
    text = "u ALL=NOTBEFORE=20261001060000 NOTAFTER=20261231120000Z ALL\n"
    (row,) = grants(tmp_path, text, etc__timezone="Europe/Zurich\n")
    assert row["starts"] == datetime(2026, 10, 1, 4, tzinfo=UTC)
    assert row["ends"] == datetime(2026, 12, 31, 12, 0, 1, tzinfo=UTC)


def test_includes(tmp_path: Path) -> None:
    """Names with a dot or a tilde at the end are passed over; what includes itself ends."""
    files = {
        "etc__sudoers.d__a": "u ALL=/bin/a\n#includedir /etc/sudoers.d\n",
        "etc__sudoers.d__b.off": "u ALL=/bin/b\n",
        "etc__sudoers.d__c~": "u ALL=/bin/c\n",
        "etc__local": "u ALL=/bin/local\n",
    }
    found = grants(tmp_path, "@include local\n@includedir /etc/sudoers.d\n@include gone\n", **files)
    assert {row["scope"] for row in found} == {"/bin/local", "/bin/a"}


def test_user_id_0_is_root_whatever_sudo_says(tmp_path: Path) -> None:
    """Its one grant says so, for a second root as well."""
    write(tmp_path, {"h/etc/sudoers": "root ALL=(ALL) ALL\n"})
    reading, _ = account(tmp_path, "toor:x:0:0::/root:/bin/sh", "toor:*:1::::::")
    assert [(row["role"], row["via"]) for row in rows_of(reading, "grant")] == [("root", "user id 0")]


def test_aliases_and_includes_without_end_come_to_one(tmp_path: Path) -> None:
    """Each alias used twice by the next, aliases in a circle, files that include each other's folder."""
    doubled = "".join(
        f"User_Alias A{n} = A{n + 1}, A{n + 1}\nHost_Alias H{n} = H{n + 1}, H{n + 1}\n" for n in range(60)
    )
    ends = "User_Alias A60 = u\nHost_Alias H60 = shop1\nUser_Alias C = D\nUser_Alias D = C, u\nA0 H0 = ALL\nC ALL = /bin/c\n"
    files = {
        f"etc__sudoers.d__{name}": "#includedir /etc/sudoers.d\n@include /etc/sudoers\n" for name in "abc"
    }
    found = grants(tmp_path, doubled + ends + "#includedir /etc/sudoers.d\n", **files)
    assert {row["scope"] for row in found} == {"ALL", "/bin/c"}


def test_lines_of_any_length_end_soon(tmp_path: Path) -> None:
    """Nothing in the reading of a line takes time by the square of its length."""
    long = 100_000
    lines = [
        "Defaults " + "!" * long,
        "Defaults " + " " * long + "=",
        "u ALL=" + "!" * long,
        "u " + "#1 " * long,
    ]
    policy(tmp_path, "".join(f"{line}\n" for line in lines))


@pytest.mark.parametrize(
    ("text", "files", "expected"),
    [
        ("%wheel ALL=ALL", {}, {"group wheel": "group wheel"}),
        ("%wheel ALL=(www) /a\n%adm ALL=(op) /b", {}, {"group wheel": "group wheel", "group adm": "group adm"}),
        ("User_Alias W = %wheel\nW ALL=ALL", {}, {"group wheel": "group wheel"}),
        ("u ALL=ALL", {}, {"direct": None}),
        ("%prim ALL=ALL", {}, {"group prim": None}),
        ("%adm, %wheel ALL=ALL", {}, {"group wheel": None}),
        ("u ALL=(ALL) ALL\n%wheel ALL=(ALL) NOPASSWD: ALL", {}, {"group wheel": None}),
        ("Defaults:%wheel !authenticate\nu ALL=/b\n%wheel ALL=/a", {}, {"direct": None, "group wheel": None}),
        ("%wheel ALL=ALL", {"etc__ssh__sshd_config": "AllowGroups wheel\n"}, {"group wheel": None}),
    ],
    ids=["a group", "two groups", "an alias", "direct", "the primary group", "another group too",
         "covers another", "other rights change", "signs in by it"],
)  # fmt: skip
def test_what_falls_with_a_group(
    tmp_path: Path, text: str, files: dict[str, str], expected: dict[str, str | None]
) -> None:
    """Only where leaving the group takes its rights, and nothing else is another after that."""
    groups = "root:x:0:\nwheel:x:10:u\nadm:x:4:u\nprim:x:1000:u\n"
    rows = grants(tmp_path, text + "\n", etc__group=groups, **files)
    assert {row["via"]: row["stands-at"] for row in rows} == expected
