"""The system's own programs, asked what they make of a file; installed where the tests run as root."""

from __future__ import annotations

import fcntl
import os
import shutil
import subprocess
import sys
import tarfile
import tempfile
from pathlib import Path
from typing import NoReturn

import pytest

FOUND_IN = {
    **dict.fromkeys("base64 cp cut dirname id sha256sum stat uname".split(), "coreutils"),
    "bash": "bash",
    "busybox": "busybox",
    "chage": "passwd",
    "chroot": "coreutils",
    "cvtsudoers": "sudo",
    "curl": "curl",
    "dash": "dash",
    "faillock": "libpam-modules-bin",
    "fish": "fish",
    "gpasswd": "passwd",
    "grep": "grep",
    "ldapadd": "ldap-utils",
    "ldapmodify": "ldap-utils",
    "ldappasswd": "ldap-utils",
    "ldapwhoami": "ldap-utils",
    "java": "default-jre-headless",
    "jq": "jq",
    "ldd": "libc-bin",
    "less": "less",
    "mandoc": "mandoc",
    "newusers": "passwd",
    "openssl": "openssl",
    "pdfinfo": "poppler-utils",
    "pdftoppm": "poppler-utils",
    "pdftotext": "poppler-utils",
    "rsyslogd": "rsyslog-gnutls",
    "sed": "sed",
    "setpriv": "util-linux",
    "ssh-keygen": "openssh-client",
    "soffice": "libreoffice-calc-nogui",
    "sshd": "openssh-server",
    "unix_chkpwd": "libpam-modules-bin",
    "useradd": "passwd",
    "zsh": "zsh",
}
_LOCK = Path(tempfile.gettempdir()) / "keymallet-tests-install.lock"
FAKE_CLOCK = "libfaketime"
PLACES = os.pathsep.join((os.environ.get("PATH", ""), "/usr/sbin", "/sbin"))


def program(name: str) -> str:
    """The path of a program; installed first if need and possible, else the test is skipped."""
    with _LOCK.open("a") as lock:  # what another process is about to install is not ready yet
        fcntl.flock(lock, fcntl.LOCK_SH)
        found = shutil.which(name, path=PLACES)
    if found is None:
        install(FOUND_IN[name])
        found = shutil.which(name, path=PLACES)
    return found or missing(f"{name} is not here, though its package is")


def needs_root(what: str) -> None:
    """Skip a test that only root can run; in CI that is a failure."""
    if os.geteuid() != 0:
        missing(f"{what} needs root")


def install(package: str) -> None:
    """Install a package of the system, one process at a time; skip the test where that cannot be."""
    if os.geteuid() != 0 or shutil.which("apt-get") is None:
        missing(f"the package {package} is not installed, and can be only by root on a Debian system")
    with _LOCK.open("a") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        for command in (["install"], ["update"], ["install"]):
            words = ["apt-get", "-qq", *command, *(["-y", package] if command == ["install"] else [])]
            environment = {**os.environ, "DEBIAN_FRONTEND": "noninteractive"}
            done = subprocess.run(words, env=environment, capture_output=True, text=True, check=False)
            if command == ["install"] and done.returncode == 0:
                return
    missing(f"the package {package} cannot be installed: {done.stderr.strip()[-200:]}")


def missing(why: str) -> NoReturn:
    """Skip, saying why; fail in CI, where nothing of this may be skipped."""
    if os.environ.get("CI"):
        pytest.fail(why)
    pytest.skip(why)


def package_of_npm(named: str) -> Path:
    """The unpacked folder of a package of the npm registry, fetched once a machine; else the test is skipped."""
    kept = Path(tempfile.gettempdir()) / f"keymallet-npm-{os.getuid()}" / named.replace("/", "-")
    kept.parent.mkdir(exist_ok=True, mode=0o700)
    with (kept.parent / "lock").open("a") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        if not (kept / "package").exists():
            if shutil.which("npm") is None:
                missing(f"{named} comes with npm, which is not here")
            kept.mkdir(exist_ok=True)
            words = ["npm", "pack", "--silent", named]
            done = subprocess.run(words, cwd=kept, capture_output=True, text=True, check=False)
            if done.returncode != 0:
                missing(f"{named} cannot be fetched: {done.stderr.strip()[-200:]}")
            with tarfile.open(next(kept.glob("*.tgz"))) as packed:
                packed.extractall(kept, filter="data")
    return kept / "package"


def alone_from_pypi(named: str, *words: str, given: bytes) -> subprocess.CompletedProcess[bytes]:
    """What Python says to this with a package in a folder of its own, which shares nothing with ours."""
    kept = Path(tempfile.gettempdir()) / f"keymallet-pypi-{os.getuid()}" / named
    kept.parent.mkdir(exist_ok=True, mode=0o700)
    with (kept.parent / "lock").open("a") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        if not (kept / "ready").exists():
            install_there = [sys.executable, "-m", "pip", "install", "--quiet", "--target", str(kept), named]
            done = subprocess.run(install_there, capture_output=True, text=True, check=False)
            if done.returncode != 0:
                missing(f"{named} cannot be fetched: {done.stderr.strip()[-200:]}")
            (kept / "ready").touch()
    environment = {**os.environ, "PYTHONPATH": str(kept)}
    return subprocess.run(
        [sys.executable, *words], input=given, env=environment, capture_output=True, check=False
    )


def fake_clock() -> Path:
    """The library that makes a program believe another time."""
    for _ in range(2):
        found = sorted(Path("/usr/lib").glob("*/faketime/libfaketime.so.1"))
        if found:
            return found[0]
        install(FAKE_CLOCK)
    return missing("the library of libfaketime is not where its package puts it")
