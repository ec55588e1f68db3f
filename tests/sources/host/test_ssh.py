"""SSH: keys, their options, certificates, revocation and the server's settings, against OpenSSH's own tools."""

from __future__ import annotations

import re
import subprocess
from datetime import UTC, datetime
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given
from hypothesis import strategies as st

from keymallet.sources.host.authorized_keys import RefusedLineError, parse_line
from keymallet.sources.host.sshd import SshServer, read_server, words_of
from keymallet.sources.host.sshd_doors import Ways, doors, ways_of
from keymallet.sources.shared.public_keys import read_certificate, read_key
from tests.oracles import needs_root, program
from tests.profiles import examples
from tests.sources.host.support import account, host_files, refused, rows_of
from tests.support import read_and_link, write

UTC_ZONE = ZoneInfo("UTC")
KEY = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIJ2uBrV0i8gZSLY9iOyhBTtYVG6yRaXf50Lgn8pMF54X"
SSHD = "UsePAM yes\nKbdInteractiveAuthentication no\n"


def keygen(*words: str | Path) -> str:
    """Run ssh-keygen; all of its times are UTC."""
    done = subprocess.run(
        [program("ssh-keygen"), *map(str, words)], capture_output=True, text=True, env={"TZ": "UTC0"}
    )
    assert done.returncode == 0, done.stderr
    return done.stdout


def new_key(path: Path, kind: str = "ed25519", *more: str) -> str:
    """Make a key with the real tool; return its public line."""
    keygen("-q", "-t", kind, "-N", "", "-C", f"{path.name}@gvr.example", "-f", path, *more)
    return path.with_suffix(".pub").read_text()


@pytest.mark.parametrize(
    ("kind", "more", "expected"),
    [
        ("ed25519", (), ("ed25519", 256)),
        ("rsa", ("-b", "1024"), ("rsa", 1024)),
        ("rsa", ("-b", "3072"), ("rsa", 3072)),
        ("ecdsa", ("-b", "384"), ("ecdsa", 384)),
        ("ecdsa", ("-b", "521"), ("ecdsa", 521)),
    ],
)
def test_keys_are_told_as_ssh_keygen_tells_them(
    tmp_path: Path, kind: str, more: tuple[str, ...], expected: tuple[str, int]
) -> None:
    """Size and fingerprint of `ssh-keygen -l`."""
    words = new_key(tmp_path / "k", kind, *more).split()
    key = read_key(words[0], words[1])
    bits, fingerprint, *_ = keygen("-l", "-f", tmp_path / "k.pub").split()
    assert (key.algorithm, key.bits) == expected == (expected[0], int(bits))
    assert key.fingerprint == fingerprint


@pytest.mark.parametrize(
    ("options", "ends"),
    [
        ('expiry-time="20270101"', "2027-01-01T00:00:01"),
        ('expiry-time="202701011230"', "2027-01-01T12:30:01"),
        ('expiry-time="20270101123045Z"', "2027-01-01T12:30:46"),
        ('EXPIRY-TIME="20270101Z"', "2027-01-01T00:00:01"),
        ('expiry-time="20280101",expiry-time="20270101"', "2027-01-01T00:00:01"),
        ('expiry-time="20270101",cert-authority,no-pty', "2027-01-01T00:00:01"),
        ('command="/bin/echo \\"a, b\\"",expiry-time="20270101"', "2027-01-01T00:00:01"),
        ("restrict", None),
    ],
)
def test_expiry_time_as_measured(options: str, ends: str | None) -> None:
    """The key works through the second it names; of two the earlier counts; names may be in capitals."""
    found = parse_line(f"{options} {KEY} comment", UTC_ZONE)
    assert found.expires == (datetime.fromisoformat(ends).replace(tzinfo=UTC) if ends else None)
    assert found.comment == "comment"


def test_expiry_time_without_zone_is_the_hosts() -> None:
    """A day alone is over as it begins, there."""
    found = parse_line(f'expiry-time="20270101" {KEY}', ZoneInfo("Europe/Zurich"))
    assert found.expires == datetime(2026, 12, 31, 23, 0, 1, tzinfo=UTC)


@pytest.mark.parametrize(
    "line",
    [
        f'expiry-time="2027-01-01" {KEY}',
        f'expiry-time="202701" {KEY}',
        f'expiry-time="20271301" {KEY}',
        f"expiry-time=20270101 {KEY}",
        f"no-such-option {KEY}",
        f"no-pty, restrict {KEY}",
        f'no-pty="yes" {KEY}',
        f'command="unclosed {KEY}',
        "ssh-ed25519 notbase64!",
        "ssh-rsa " + KEY.split()[1],
        "ssh-ed25519",
        "just words here",
        "no-pty",
        KEY[:-8],
    ],
)
def test_lines_the_server_does_not_take(line: str) -> None:
    """One fault costs the whole line, and is told."""
    with pytest.raises(RefusedLineError):
        parse_line(line, UTC_ZONE)


def test_nothing_secret_passes() -> None:
    """Arguments of commands and values of variables stay behind."""
    found = parse_line(
        f'command="/bin/sync --token s3cret",environment="PASS=s3cret",from="192.0.2.*" {KEY} c', UTC_ZONE
    )
    assert found.scope == "one command: /bin/sync, sets PASS, from 192.0.2.*"


def host(tmp_path: Path, files: dict[str, str | bytes]) -> tuple[Any, dict[str, dict[str, Any]]]:
    """A host with these files; its keys by kind."""
    write(tmp_path, {"h/home/u/.bashrc": "", "h/etc/ssh/sshd_config": SSHD, **files})
    reading, _ = account(tmp_path)
    return reading, {row["kind"]: row for row in rows_of(reading, "key")}


@pytest.mark.parametrize(
    "span", ["20261101000000Z:20261231235959Z", "always:forever", "20261125000000Z:forever"]
)
def test_certificates_as_ssh_keygen_tells_them(tmp_path: Path, span: str) -> None:
    """Validity, principals, id, serial and signer of `ssh-keygen -L`."""
    signer = new_key(tmp_path / "ca")
    new_key(tmp_path / "k")
    keygen(
        "-q",
        "-s",
        tmp_path / "ca",
        "-I",
        "night shift",
        "-n",
        "u,root",
        "-z",
        "17",
        "-V",
        span,
        tmp_path / "k.pub",
    )
    found = read_certificate((tmp_path / "k-cert.pub").read_text())
    told = keygen("-L", "-f", tmp_path / "k-cert.pub")
    assert f'Key ID: "{found.key_id}"' in told and f"Serial: {found.serial}" in told
    assert found.principals == ("u", "root")
    assert found.signer in told and found.signer == keygen("-l", "-f", tmp_path / "ca.pub").split()[1]
    assert signer and found.is_signed and found.is_of_user
    valid = re.search(r"Valid: (.*)", told)
    assert valid is not None
    starts = f"from {found.starts:%Y-%m-%dT%H:%M:%S}" if found.starts else ""
    ends = f"to {found.ends:%Y-%m-%dT%H:%M:%S}" if found.ends else ""
    words = f"{starts} {ends}".strip() or "forever"
    assert valid[1] in (words, words.replace("from", "after"), f"{starts.replace('from', 'after')}")


@pytest.mark.parametrize(
    ("principals", "trust", "state"),
    [
        ("u", "TrustedUserCAKeys /etc/ssh/ca.pub\n", "active"),
        ("root", "TrustedUserCAKeys /etc/ssh/ca.pub\n", "inactive"),
        ("", "TrustedUserCAKeys /etc/ssh/ca.pub\n", "inactive"),
        ("u", "", "inactive"),
        ("u", "TrustedUserCAKeys /etc/ssh/gone.pub\n", None),
        ("team", "TrustedUserCAKeys /etc/ssh/ca.pub\nAuthorizedPrincipalsFile /etc/ssh/for/%u\n", "active"),
        ("u", "TrustedUserCAKeys /etc/ssh/ca.pub\nAuthorizedPrincipalsFile /etc/ssh/for/%u\n", "inactive"),
    ],
)
def test_whether_the_host_takes_a_certificate(
    tmp_path: Path, principals: str, trust: str, state: str | None
) -> None:
    """Its signer has to be trusted, and it has to name the account; whom nobody can tell is unknown."""
    signer = new_key(tmp_path / "ca")
    new_key(tmp_path / "k")
    names = ["-n", principals] if principals else []
    keygen("-q", "-s", tmp_path / "ca", "-I", "i", *names, tmp_path / "k.pub")
    files = {
        "h/home/u/.ssh/id-cert.pub": (tmp_path / "k-cert.pub").read_text(),
        "h/etc/ssh/ca.pub": signer,
        "h/etc/ssh/for/u": "# who\nteam\n",
        "h/etc/ssh/sshd_config": SSHD + trust,
    }
    assert host(tmp_path, files)[1]["ssh-certificate"]["state"] == state


@pytest.mark.parametrize(
    ("principals", "options", "state"),
    [
        ("u", "cert-authority", "active"),
        ("x", "cert-authority", "inactive"),
        ("", "cert-authority", "active"),
        ("x", 'cert-authority,principals="x,y"', "active"),
        ("", 'cert-authority,principals="x"', "inactive"),
    ],
)
def test_a_signing_key_among_the_authorized_ones(
    tmp_path: Path, principals: str, options: str, state: str
) -> None:
    """Measured: `principals=` takes the place of the login name; a bare one takes a certificate without names."""
    signer = new_key(tmp_path / "ca")
    new_key(tmp_path / "k")
    names = ["-n", principals] if principals else []
    keygen("-q", "-s", tmp_path / "ca", "-I", "i", *names, tmp_path / "k.pub")
    files = {
        "h/home/u/.ssh/id-cert.pub": (tmp_path / "k-cert.pub").read_text(),
        "h/home/u/.ssh/authorized_keys": f"{options} {signer}",
    }
    _, keys = host(tmp_path, files)
    assert keys["ssh-certificate"]["state"] == state
    assert keys["ssh-key"]["scope"].startswith("signs certificates")


@pytest.mark.parametrize("how", ["key", "serial: 5", "serial: 2-9", "id: gone", "list"])
def test_revoked_keys(tmp_path: Path, how: str) -> None:
    """By a binary list of the real tool, in each way it has, and by a plain list of keys."""
    new_key(tmp_path / "ca")
    line = new_key(tmp_path / "k")
    keygen("-q", "-s", tmp_path / "ca", "-I", "gone", "-n", "u", "-z", "5", tmp_path / "k.pub")
    revoked = tmp_path / "h/etc/ssh/revoked"
    revoked.parent.mkdir(parents=True)
    if how == "list":
        revoked.write_text(line)
    else:
        (tmp_path / "spec").write_text(f"{how}\n")
        keygen(
            "-q",
            "-k",
            "-f",
            revoked,
            "-s",
            tmp_path / "ca.pub",
            tmp_path / ("k.pub" if how == "key" else "spec"),
        )
    files = {
        "h/home/u/.ssh/authorized_keys": line + f"cert-authority {(tmp_path / 'ca.pub').read_text()}",
        "h/home/u/.ssh/id-cert.pub": (tmp_path / "k-cert.pub").read_text(),
        "h/etc/ssh/sshd_config": SSHD + "RevokedKeys /etc/ssh/revoked\n",
    }
    write(tmp_path, {"h/home/u/.bashrc": "", **files})
    rows = rows_of(account(tmp_path)[0], "key")
    states = {(row["kind"], row["state"]) for row in rows if row["scope"] != "signs certificates"}
    whole_key = how in ("key", "list")
    assert states == {("ssh-key", "revoked" if whole_key else "active"), ("ssh-certificate", "revoked")}


def test_keys_of_a_host(tmp_path: Path) -> None:
    """Lines are read or refused with their number; blank lines and comments are neither."""
    lines = f"# mine\n\n{KEY} laptop\nssh-rsa AAAA broken\n\tno-pty {KEY} again\n"
    reading, keys = host(tmp_path, {"h/home/u/.ssh/authorized_keys": lines})
    assert refused(reading) == {("h/home/u/.ssh/authorized_keys", 4)}
    assert [row["label"] for row in rows_of(reading, "key")] == ["laptop", "again"]
    assert keys["ssh-key"]["digest"] == "SHA256:LKu3Tx33JxDlb4FbOxKRilazsQhTCW+bppuYkgRU8k0"
    assert {row["kind"] for row in rows_of(reading, "factor")} == {"password", "software-key"}


def test_a_home_that_was_not_brought_along_is_not_without_keys(tmp_path: Path) -> None:
    """Its account has one row of which nothing is known; without any home, keys are not supplied at all."""
    write(tmp_path, {"h/etc/passwd": "", "h/etc/shadow": ""})
    reading, _ = account(tmp_path)
    assert "key" not in reading.supply
    passwd = "u:x:1000:1000::/home/u:/bin/sh\nv:x:1001:1::/srv/far/v:/bin/sh\nroot:x:0:0::/root:/bin/sh\nw:x:1002:1::/home/w:/bin/sh"
    write(tmp_path, {"h/home/u/.profile": ""})
    reading, _ = account(tmp_path, passwd)
    assert [(row["account"], row["unread"]) for row in rows_of(reading, "key")] == [
        ("v", ["*"]),
        ("root", ["*"]),
        ("w", ["*"]),
    ]
    assert reading.intake["key"].read == 0


@pytest.mark.parametrize("kept", [True, False])
def test_a_file_that_others_can_write_opens_nothing_where_modes_were_kept(tmp_path: Path, kept: bool) -> None:
    """sshd refuses its keys; but a copy that lost the modes says nothing of the host's."""
    files = {"h/home/u/.ssh/authorized_keys": KEY, "h/home/v/.ssh/authorized_keys": KEY, "h/etc/passwd": ""}
    write(tmp_path, {"h/etc/ssh/sshd_config": SSHD, **files})
    (tmp_path / "h/home/u/.ssh/authorized_keys").chmod(0o664)
    (tmp_path / "h/home/v").chmod(0o775)
    for place in (tmp_path / "h/home/v/.ssh", tmp_path / "h/home/v/.ssh/authorized_keys"):
        place.chmod(0o755)
    (tmp_path / "h/etc/passwd").chmod(0o644 if kept else 0o664)
    passwd = "u:x:1000:100::/home/u:/bin/sh\nv:x:1001:100::/home/v:/bin/sh\nw:x:0:0::/home/w:/bin/sh"
    reading, _ = account(tmp_path, passwd)
    states = {row["account"]: row["state"] for row in rows_of(reading, "key") if row["key"]}
    assert states == dict.fromkeys(("u", "v"), "inactive" if kept else "active")


@pytest.mark.parametrize(
    ("programs", "shell", "opens"),
    [
        ({"/bin/sh": 0o755, "/bin/other": 0o755}, "/bin/other", True),
        ({"/bin/sh": 0o755, "/bin/other": 0o644}, "/bin/other", False),
        # nothing can be run in this copy: its modes are not the host's
        ({"/bin/sh": 0o644, "/bin/other": 0o644}, "/bin/other", True),
        ({"/bin/sh": 0o644}, "/bin/sh", True),
        # what did not come along may be there
        ({"/bin/sh": 0o755}, "/bin/other", True),
        ({}, "/bin/other", True),
    ],
)
def test_a_shell_that_does_not_run_lets_nobody_in(
    tmp_path: Path, programs: dict[str, int], shell: str, opens: bool
) -> None:
    """Only where it is known."""
    write(tmp_path, {"h/etc/ssh/sshd_config": SSHD, **{f"h{path}": "" for path in programs}})
    for path, mode in programs.items():
        (tmp_path / f"h{path}").chmod(mode)
    _, row = account(tmp_path, f"u:x:1000:100::/home/u:{shell}")
    assert (row["remote-key"], row["remote-password"]) == (opens, opens)


SERVERS = {
    "plain": "",
    "passwords off": "PasswordAuthentication no\n",
    "first counts": "PasswordAuthentication no\nPasswordAuthentication yes\nPermitRootLogin=no\npermitrootlogin yes\n",
    "by user": "PasswordAuthentication no\nMatch User root,nob*\n PasswordAuthentication yes\n PubkeyAuthentication no\n",
    "first block": "Match User nobody\nPasswordAuthentication no\nMatch User *\nPasswordAuthentication yes\n",
    "not this user": "PasswordAuthentication no\nMatch User !nobody,*\n PasswordAuthentication yes\n",
    "by group": "Match Group root\n PermitRootLogin yes\nMatch all\n PubkeyAuthentication no\n",
    "root": "PermitRootLogin without-password\n",
    "commands": "PermitRootLogin forced-commands-only\n",
    "allowed": "AllowUsers nobody other\nAllowUsers third\n",
    "denied": "DenyUsers no*\n",
    "by membership": "AllowGroups root\nDenyGroups nogroup\n",
    "quoted": 'AuthorizedKeysFile "/etc/keys/%u" # where\n',
}


@pytest.mark.parametrize("config", SERVERS.values(), ids=SERVERS.keys())
@pytest.mark.parametrize(("name", "uid", "groups"), [("root", 0, ("root",)), ("nobody", 65534, ("nogroup",))])
def test_the_server_says_the_same(
    tmp_path: Path, config: str, name: str, uid: int, groups: tuple[str, ...]
) -> None:
    """`sshd -T` prints what holds for an account; passwords and keys follow from it."""
    needs_root("sshd -T")
    Path("/run/sshd").mkdir(mode=0o755, exist_ok=True)
    new_key(tmp_path / "hostkey")
    (tmp_path / "config").write_text(SSHD + config)
    words = [program("sshd"), "-T", "-f", tmp_path / "config", "-h", tmp_path / "hostkey"]
    words += ["-C", f"user={name},host=h.example,addr=192.0.2.1"]
    done = subprocess.run([str(word) for word in words], capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stderr
    told: dict[str, list[str]] = {}
    for line in done.stdout.splitlines():
        keyword, _, value = line.partition(" ")
        told.setdefault(keyword, []).append(value)
    root = told["permitrootlogin"][0]
    admitted = _admits(told, name, groups)
    expected = Ways(
        admitted and told["passwordauthentication"] == ["yes"] and (uid != 0 or root == "yes"),
        admitted and told["pubkeyauthentication"] == ["yes"] and (uid != 0 or root != "no"),
    )
    server = server_of(tmp_path, SSHD + config)
    found = doors(server, name, uid, groups)
    assert ways_of(found, empty_password=False) == expected
    if config == SERVERS["quoted"]:
        assert words_of(server.whole, "authorizedkeysfile") == told["authorizedkeysfile"][0].split()


def _admits(told: dict[str, list[str]], name: str, groups: tuple[str, ...]) -> bool:
    """Only the lists are judged here: these few have no wildcard but a star at the end."""

    def fits(key: str, names: tuple[str, ...]) -> bool:
        return any(
            each == want or (want[-1] == "*" and each.startswith(want[:-1]))
            for each in names
            for want in told[key]
        )

    if "denyusers" in told and fits("denyusers", (name,)):
        return False
    if "allowusers" in told and not fits("allowusers", (name,)):
        return False
    if "denygroups" in told and fits("denygroups", groups):
        return False
    return "allowgroups" not in told or fits("allowgroups", groups)


def server_of(tmp_path: Path, config: str) -> SshServer:
    write(tmp_path, {"h/etc/ssh/sshd_config": config})
    with host_files(tmp_path) as files:
        found = read_server(files)
    assert found is not None
    return found


@pytest.mark.parametrize(
    ("config", "password", "key"),
    [
        ("PasswordAuthentication no\nMatch Address 10.0.0.0/8\n PasswordAuthentication yes\n", True, True),
        ("PasswordAuthentication no\nUsePAM yes\n", True, True),  # the keyboard-interactive way asks PAM
        ("PasswordAuthentication no\nUsePAM no\n", False, True),
        ("AuthenticationMethods publickey,password\n", False, False),
        ("AuthenticationMethods publickey password\n", True, True),
        ("AuthenticationMethods any\n", True, True),
        ("AllowUsers u@10.*\n", True, True),
        ("DenyUsers u@10.*\n", True, True),
        ("Include /etc/ssh/more/*.conf\nPasswordAuthentication yes\nPubkeyAuthentication yes\n", False, True),
        ("Match Nonsense\n PubkeyAuthentication no\n", True, True),
    ],
)
def test_a_way_that_is_open_to_anybody_is_open(
    tmp_path: Path, config: str, password: bool, key: bool
) -> None:
    """What depends on where somebody comes from may hold; two proofs together are neither alone."""
    write(tmp_path, {"h/etc/ssh/more/a.conf": "PasswordAuthentication no\nKbdInteractiveAuthentication no\n"})
    found = doors(server_of(tmp_path, config), "u", 1000, ("u",))
    ways = ways_of(found, empty_password=False)
    assert (ways.password, ways.key) == (password, key)


def test_a_lock_stops_the_password_alone(tmp_path: Path) -> None:
    """With PAM a key still gets in; without, sshd refuses whoever has `!` in front of the hash."""
    shadow = "u:!$6$saltsalt$" + "a" * 86 + ":20000:0:99999:7:::"
    for pam, stops in (("yes", "password"), ("no", "everything")):
        write(tmp_path, {"h/etc/ssh/sshd_config": f"UsePAM {pam}\n"})
        _, row = account(tmp_path, shadow=shadow)
        assert (row["locked"], row["lock-stops"], row["remote-key"]) == (True, stops, True)


def test_an_account_without_its_line_in_shadow_is_refused_everywhere(tmp_path: Path) -> None:
    """By PAM; a server that does not ask PAM lets a key in."""
    for pam, opens in (("yes", False), ("no", True)):
        write(tmp_path, {"h/etc/ssh/sshd_config": f"UsePAM {pam}\n"})
        assert account(tmp_path, shadow="other:*:1::::::")[1]["remote-key"] is opens


def test_links_stay_within_the_host(tmp_path: Path) -> None:
    """An absolute link starts at the host's own root; one that leads out of it leads nowhere."""
    write(
        tmp_path, {"secret": KEY, "h/srv/keys": KEY, "h/home/u/x": "", "h/home/v/x": "", "h/etc/passwd": ""}
    )
    for name, target in (("u", "/srv/keys"), ("v", "../../../../../secret")):
        folder = tmp_path / f"h/home/{name}/.ssh"
        folder.mkdir()
        (folder / "authorized_keys").symlink_to(target)
    (tmp_path / "h/home/u/.ssh/authorized_keys2").symlink_to("authorized_keys2")
    passwd = "u:x:1000:1000::/home/u:/bin/sh\nv:x:1001:1001::/home/v:/bin/sh"
    reading, _ = account(tmp_path, passwd)
    assert [row["account"] for row in rows_of(reading, "key")] == ["u"]


@examples(60)
@given(st.text(max_size=80) | st.text('ssh-ed25519 AAAA="\\,no-pty', max_size=60))
def test_any_line_is_read_or_refused(line: str) -> None:
    """Nothing else comes out of it."""
    for text in (line, f"{line} {KEY}", f"{KEY} {line}"):
        try:
            parse_line(text, UTC_ZONE)
        except RefusedLineError as refusal:
            assert str(refusal)


def test_the_same_key_elsewhere(tmp_path: Path) -> None:
    """Across hosts: a key of root's on a person, of one person on another; one's own on many hosts is none."""
    keys = [new_key(tmp_path / f"k{number}") for number in range(3)]
    passwd = "root:x:0:0::/root:/bin/sh\nu:x:1000:1000::/home/u:/bin/sh\nv:x:1001:1::/home/v:/bin/sh\n"
    for name, held in {
        "a": {"root": [0], "u": [0, 1], "v": [2]},
        "b": {"root": [], "u": [1], "v": [1]},
    }.items():
        files = {f"h/{name}/etc/passwd": passwd}
        for owner, numbers in held.items():
            home = "root" if owner == "root" else f"home/{owner}"
            files[f"h/{name}/{home}/.ssh/authorized_keys"] = "".join(keys[each] for each in numbers)
        write(tmp_path, files)
    estate = '[source.h]\nread = "host"\nfolder = "h"\n'
    write(tmp_path, {"estate.toml": f'organisation = "O"\nclock = "UTC"\nrulebook = "r.toml"\n{estate}'})
    linked = read_and_link(tmp_path / "estate.toml")
    tables = linked.tables
    found = tables["key"].with_columns(
        tables["account"]["account"].gather(tables["key"]["account-row"]).alias("account")
    )
    told = {
        (row["account"], row["key"] == read_key(*keys[1].split()[:2]).fingerprint): (
            row["shared-with"],
            row["shared-with-root"],
        )
        for row in found.iter_rows(named=True)
    }
    assert told == {
        ("h/a/root", False): (["h/a/u"], True),
        ("h/a/u", False): (["h/a/root"], True),
        ("h/a/u", True): (["h/b/v"], False),
        ("h/a/v", False): ([], False),
        ("h/b/u", True): (["h/b/v"], False),
        ("h/b/v", True): (["h/a/u"], False),
    }
    assert "shared-with" in linked.readings[0].supply["key"]
