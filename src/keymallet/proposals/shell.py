"""Changes of a host as a POSIX shell script of its own tools, and the script that undoes them.

Each step looks first at what stands there: what has changed since it was read is left alone, and told.
"""

from __future__ import annotations

import base64
import shlex
from collections.abc import Sequence
from importlib.resources import files

from keymallet.core.facts.tables.columns import AS_FOUND
from keymallet.core.mending.forms import attributes
from keymallet.proposals.change import Change, one_line

HOW = "as root on {host}: sh {file}"
ENDING = "sh"
_BARRED = "1"
"""The day of shadow(5)'s expiry field that bars an account: 1970-01-02. What 0 does, differs."""
_DEMANDED = "0"
"""The day of the last change by which a new password is demanded (chage(1))."""


def write(changes: Sequence[Change], heading: Sequence[str], host: str) -> tuple[str, str]:
    """The script of these changes in their order, and the one that undoes them, the last first."""
    forward = [_step(change, back=False) for change in changes]
    back = [_step(change, back=True) for change in reversed(changes)]
    steps = files("keymallet.proposals").joinpath("steps.sh").read_text("utf-8")
    head = ["#!/bin/sh", *(f"# {one_line(line)}" for line in heading)]
    undo = [*head, "# The way back: it undoes the changes, the last of them first."]
    named = f"\nhost={shlex.quote(host)}\n\n{steps}"
    return "\n".join([*head, named, *forward, "finish\n"]), "\n".join([*undo, named, *back, "finish\n"])


def _step(change: Change, *, back: bool) -> str:
    name = change.account["name"]
    match change.mend:
        case "switch-off" | "change-password":
            is_off = change.mend == "switch-off"
            days = attributes(change.account[AS_FOUND.name])
            found = days["expires" if is_off else "last change"] or ""
            then = _BARRED if is_off else _DEMANDED
            turned = (then, found) if back else (found, then)
            words = ["expire" if is_off else "changed", name, *turned]
        case "remove-grant":
            words = ["join" if back else "leave", name, change.place.removeprefix("group ")]
        case _:
            digest = _hexadecimal(change.facts["key"])
            words = ["open_key" if back else "close_key", change.place, digest]
            words.append(f"# keymallet {digest[:12]}: ")
    told = ["about", str(change.number), one_line(("undo: " if back else "") + change.told)]
    return "\n".join([f"# {change.remark_of_findings}", shlex.join(told), shlex.join(words), ""])


def _hexadecimal(fingerprint: str) -> str:
    """A fingerprint as sha256sum(1) prints it."""
    text = fingerprint.removeprefix("SHA256:")
    return base64.b64decode(text + "=" * (-len(text) % 4)).hex()
