"""Whole small systems of other releases, made by debootstrap, for programs that need a root of their own."""

from __future__ import annotations

import fcntl
import re
import shutil
import subprocess
import tempfile
from pathlib import Path

from tests.oracles import install, missing, needs_root, program

_WANTED = "openssh-server,sudo,libpam-modules-bin,passwd"
_DONE = "keymallet.made"


def made_root(suite: str) -> Path:
    """A root of a release (`bookworm`, `trixie`), made once and kept for later runs on the same machine."""
    needs_root("a system of its own")
    root = Path(tempfile.gettempdir()) / f"keymallet-root-{suite}"
    with root.with_suffix(".lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        if (root / _DONE).is_file():
            return root
        shutil.rmtree(root, ignore_errors=True)
        if shutil.which("debootstrap", path="/usr/sbin:/usr/bin") is None:
            install("debootstrap")
        words = [
            program("debootstrap"),
            "--variant=minbase",
            f"--include={_WANTED}",
            suite,
            str(root),
            _mirror(),
        ]
        done = subprocess.run(words, capture_output=True, text=True, check=False)
        if done.returncode:
            missing(f"no {suite} can be made here: {done.stdout.strip()[-200:]}")
        (root / _DONE).touch()
    return root


def own_root(suite: str, folder: Path) -> Path:
    """A copy of such a root in a folder of the test's own, to be changed at will."""
    done = subprocess.run(["cp", "-a", str(made_root(suite)), str(folder / "root")], capture_output=True, text=True, check=False)  # fmt: skip
    if done.returncode:
        missing(f"the root of {suite} cannot be copied: {done.stderr.strip()[-200:]}")
    return folder / "root"


def _mirror() -> str:
    """Where this machine has its own packages from."""
    for path in sorted(Path("/etc/apt").rglob("*.sources")) + sorted(Path("/etc/apt").rglob("*.list")):
        found = re.search(
            r"^(?:URIs:|deb)\s.*?(https?://\S+/debian)/?(?:\s|$)", path.read_text(), re.MULTILINE
        )
        if found:
            return found[1]
    return missing("where this machine has its packages from is not known")
