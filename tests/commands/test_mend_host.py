"""The scripts that mend writes for a host, run in a root with the system's own tools; read and judged again; undone."""

from __future__ import annotations

import csv
import os
import re
import shutil
import subprocess
from pathlib import Path

import pytest

from tests.deep.roots import own_root
from tests.mended import breaches, rule
from tests.oracles import needs_root, program
from tests.sources.host.test_made_by_the_system import HASH
from tests.sources.host.test_ssh import KEY
from tests.support import run, write

TOOLS = (
    "dash", "chage", "gpasswd", "sed", "grep", "cut", "stat", "cp", "dirname", "base64", "sha256sum", "setpriv", "id",
    "uname",
)  # fmt: skip
HOSTILE = (
    "plain", "o'brien", '"quoted"', "$(touch pwned)", "`touch pwned`", "a b", "a;b&c|d", "*", "?", "\\n%s", "#no",
    "!bang", "~root", "x" * 1000, "zürich", "l\udcfctti",
)  # fmt: skip
"""Login names that end a line or a word where somebody writes them carelessly; the last is not UTF-8."""
PLAIN = tuple(name for name in HOSTILE if name.isascii() and not name.startswith("#"))
"""Those that scripts are written for; a line that begins with # is no account to the host either."""
KINDS = {"off": "guest", "aged": "shared", "keyed": "service", "power": "person"}
ESTATE = """
organisation = "Mill"
clock = "UTC"
rulebook = "book.toml"
[source.mill]
read = "host"
folder = "h"
kinds = { "*off" = "guest", "*aged" = "shared", "*keyed" = "service", "*power" = "person" }
"""
BOOK = (
    'title = "Mill"\n'
    + rule("off", "not enabled", "high", "switch-off", who="kind = guest")
    + rule("old", "age(password-changed) <= 60d", "medium", "change-password", who="kind = shared")
    + rule("power", "not privileged", "high", "remove-grant", each="grant", who="account.kind = person")
    + rule("keys", "state != active", "low", "revoke-key", each="key", who="account.kind = service")
)


def with_tools(root: Path) -> Path:
    """A root with nothing but the tools that a script needs, from this machine."""
    for tool in TOOLS:
        path = Path(program(tool))
        linked = subprocess.run([program("ldd"), path], capture_output=True, text=True, check=False).stdout
        for each in {str(path), *re.findall(r"(/\S+)", linked)}:
            target = root / each.lstrip("/")
            target.parent.mkdir(parents=True, exist_ok=True)
            shutil.copy2(each, target)
    for name in ("bin", "sbin"):
        (root / name).mkdir(exist_ok=True)
    (root / "bin/sh").symlink_to(program("dash")) if not (root / "bin/sh").exists() else None
    return root


def named(kind: str) -> list[str]:
    return [f"{name}{kind}" for name in HOSTILE]


@pytest.fixture(
    params=["here", *(pytest.param(each, marks=pytest.mark.deep) for each in ("bookworm", "trixie"))]
)
def mill(request: pytest.FixtureRequest, tmp_path: Path) -> Path:
    """A host in which each hostile name has an account for each kind of change."""
    needs_root("a root of its own")
    root = tmp_path / "h"
    if request.param == "here":
        with_tools(root)
    else:
        own_root(request.param, tmp_path).rename(root)
    names = [(name, kind) for kind in KINDS for name in named(kind)]
    passwd, shadow = ["root:x:0:0::/root:/bin/sh"], ["root:*:20000:0:99999:7:::"]
    for number, (name, kind) in enumerate(names, start=2000):
        passwd.append(f"{name}:x:{number}:{number}::/home/{name}:/bin/sh")
        expires = "20900" if kind == "off" and "plain" in name else ""
        shadow.append(f"{name}:{HASH}:20300:0:99999:7::{expires}:")
    # One member each, so that the way back leaves them in their order.
    groups = [f"sudo{number}:x:{number}:{name}" for number, name in enumerate(named("power"), start=3000)]
    files = {
        "passwd": passwd,
        "shadow": shadow,
        "group": ["root:x:0:", *groups],
        "gshadow": ["root:*::", *(line.split(":")[0] + ":!::" + line.split(":")[3] for line in groups)],
        "sudoers": [f"%sudo{number} ALL=(ALL) ALL" for number in range(3000, 3000 + len(HOSTILE))],
        "hostname": ["mill"],
    }
    (root / "etc").mkdir(exist_ok=True)
    for name, lines in files.items():
        (root / "etc" / name).write_bytes("\n".join([*lines, ""]).encode("utf-8", "surrogateescape"))
    (root / "etc/sudoers").chmod(0o440)
    for number, (name, kind) in enumerate(names, start=2000):
        home = os.fsencode(root) + b"/home/" + name.encode("utf-8", "surrogateescape")[:200]
        if kind == "keyed" and len(name) < 200:
            folder = Path(os.fsdecode(home)) / ".ssh"
            folder.mkdir(parents=True)
            keys = folder / "authorized_keys"
            keys.write_text(f"# mine\n  no-pty,command=\"echo 'AAAA'\" {KEY} of $(touch pwned)\n")
            for path in (folder, keys):
                os.chown(path, number, number)
    write(tmp_path, {"estate.toml": ESTATE, "book.toml": BOOK})
    return tmp_path


def state(folder: Path) -> dict[str, bytes]:
    """What the accounts rest on, by file."""
    root = folder / "h"
    paths = [root / "etc" / name for name in ("passwd", "shadow", "group", "gshadow", "sudoers")]
    paths += sorted(root.glob("home/*/.ssh/authorized_keys"))
    return {str(path.relative_to(root)): path.read_bytes() for path in paths}


def carried_out(folder: Path, name: str, *words: str) -> subprocess.CompletedProcess[str]:
    shutil.copy(folder / "out" / name, folder / "h/steps.sh")
    inside = [program("chroot"), str(folder / "h"), "/bin/sh", "/steps.sh", *words]
    return subprocess.run(inside, capture_output=True, text=True, check=False)


def test_changes_of_a_host_are_made_and_undone(mill: Path) -> None:
    """For every kind of change, with every hostile name that hosts take: just those, and then as it was."""
    before, stood = breaches(mill), state(mill)
    assert {each[0] for each in before} == {"off", "old", "power", "keys"}
    told = run("mend", "--all", "--into", "out", cwd=mill).stdout
    # A new password is tried as if it were set already.
    assert f"{len(before)} findings ended · 0 newly broken" in told
    assert carried_out(mill, "mill.sh").returncode == 2 and state(mill) == stood
    done = carried_out(mill, "mill.sh", "--here")
    assert "SKIPPED" not in done.stdout and done.returncode == 0, done.stdout + done.stderr
    by_hand = {f"{name}{kind}" for name in set(HOSTILE) - set(PLAIN) for kind in KINDS}
    after = breaches(mill)
    assert {
        who.removeprefix("mill/") for name, who, _ in after if name != "old" and "x" * 100 not in who
    } <= {
        name.encode("utf-8", "surrogateescape").decode("latin-1") if "\udcfc" in name else name
        for name in by_hand
    }
    assert not {name for name, who, _ in after if who.startswith("mill/plain") and name != "old"}
    changed = state(mill)
    lines = {"passwd": 0, "shadow": 2 * len(PLAIN), "group": len(PLAIN), "gshadow": len(PLAIN), "sudoers": 0}
    for name, number in lines.items():
        pairs = zip(stood[f"etc/{name}"].splitlines(), changed[f"etc/{name}"].splitlines(), strict=True)
        assert sum(old != new for old, new in pairs) == number, name
    keys = [text for path, text in changed.items() if path.endswith("authorized_keys")]
    assert sum(b"\n# keymallet " in text for text in keys) == sum(len(name) < 200 for name in PLAIN)
    assert not list(mill.rglob("pwned"))
    again = carried_out(mill, "mill.sh", "--here")
    assert again.returncode == 0 and "0 made" in again.stdout and state(mill) == changed
    back = carried_out(mill, "mill.back.sh", "--here")
    assert back.returncode == 0, back.stdout + back.stderr
    assert state(mill) == stood and breaches(mill) == before


def test_what_has_changed_meanwhile_is_left_alone(mill: Path) -> None:
    """A day of expiry set by hand, a key file turned into a link, one that another than its user owns."""
    breaches(mill)
    run("mend", "--all", "--into", "out", cwd=mill)
    shadow = mill / "h/etc/shadow"
    lines = shadow.read_bytes().splitlines()
    turned = [line[: -len(b":20900:")] + b":20901:" if line.endswith(b":20900:") else line for line in lines]
    shadow.write_bytes(b"\n".join([*turned, b""]))
    homes = mill / "h/home"
    secret = mill / "h/etc/secret"
    secret.write_text(f"{KEY} somebody\n")
    link = homes / "plainkeyed/.ssh/authorized_keys"
    link.unlink()
    link.symlink_to("/etc/secret")
    os.chown(homes / "a bkeyed/.ssh/authorized_keys", 0, 0)
    stood = state(mill)
    done = carried_out(mill, "mill.sh", "--here")
    assert done.returncode == 1 and done.stdout.count("SKIPPED") == 3
    assert "the day is 20901 now, and was 20900" in done.stdout and "it is a link" in done.stdout
    after = state(mill)
    assert link.is_symlink() and "home/a bkeyed/.ssh/authorized_keys" in stood
    assert after["home/a bkeyed/.ssh/authorized_keys"] == stood["home/a bkeyed/.ssh/authorized_keys"]
    assert b":20901:" in after["etc/shadow"] and secret.read_text() == f"{KEY} somebody\n"


def test_no_password_is_demanded_of_what_cannot_answer(mill: Path) -> None:
    """A service would be shut out by that: somebody sets a new one, by hand; nor of who has no session."""
    estate = (
        (mill / "estate.toml")
        .read_text()
        .replace('"*aged" = "shared"', '"plainaged" = "service", "*aged" = "shared"')
    )
    (mill / "estate.toml").write_text(estate)
    (mill / "book.toml").write_text(BOOK.replace("kind = shared", "kind = shared or name = 'plainaged'"))
    passwd = (mill / "h/etc/passwd").read_bytes().split(b"\n")
    turned = [
        line.replace(b":/bin/sh", b":/usr/sbin/nologin") if line.startswith(b"a baged:") else line
        for line in passwd
    ]
    (mill / "h/etc/passwd").write_bytes(b"\n".join(turned))
    run("read", cwd=mill)
    run("mend", "--rule", "old", "--into", "out", cwd=mill)
    with (mill / "out/mill.csv").open(encoding="utf-8-sig") as file:
        rows = {row["account"].removeprefix("mill/"): row for row in csv.DictReader(file)}
    assert {name for name in ("plainaged", "a baged") if rows[name]["how"] == "by hand"} == {
        "plainaged",
        "a baged",
    }
    assert (rows["plainaged"]["fact"], rows["plainaged"]["then"]) == ("account.password-changed", "today")
    script = (mill / "out/mill.sh").read_text()
    assert "'*aged'" in script and "changed plainaged" not in script and "'a baged'" not in script
