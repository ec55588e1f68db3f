"""Which release a host runs, as far as its files tell: the PAM rule and the clock follow from it."""

from __future__ import annotations

import re
import shlex

from keymallet.core.language.clocks import is_zone
from keymallet.sources.host.files import HostFiles, text_lines
from keymallet.sources.shared.ageing import Pam

_FIRST_WITH_17 = {"debian": (13,), "ubuntu": (25, 4)}
"""The first release of a system whose PAM follows the 1.7 rule."""
_ZONE_LINK = re.compile(r"zoneinfo/(?:posix/|right/)?(.+)$")


def pam_rule(files: HostFiles, said: Pam | None) -> tuple[Pam, str]:
    """The PAM rule to judge by, and in words why."""
    if said is not None:
        return said, "as the estate says"
    for path in ("etc/os-release", "usr/lib/os-release"):
        data = files.bytes_of(path)
        if data is None:
            continue
        assigned = dict(_assignments(data))
        first = _FIRST_WITH_17.get(assigned.get("ID", ""))
        version = tuple(int(part) for part in re.findall(r"\d+", assigned.get("VERSION_ID", ""))[:2])
        name = assigned.get("PRETTY_NAME") or assigned.get("ID", "a system without a name")
        if first and version:
            return ("1.7" if version >= first else "1.5"), f"{path} names {name}"
        return "1.7", f'{path} names {name}, whose rule is not known here; pam = "1.5" would be milder'
    return "1.7", 'no release file is there; pam = "1.5" would be milder by a day'


def _assignments(data: bytes) -> list[tuple[str, str]]:
    assignments = []
    for _, line in text_lines(data):
        name, equals, value = line.partition("=")
        if equals and not name.startswith("#"):
            try:
                words = shlex.split(value)
            except ValueError:
                words = [value]
            assignments.append((name.strip(), words[0] if words else ""))
    return assignments


def zone(files: HostFiles, otherwise: str) -> tuple[str, str]:
    """The host's own clock, and where that stands: times in its logs and rules are local."""
    data = files.bytes_of("etc/timezone")
    if data is not None:
        name = data.decode("utf-8", "replace").strip()
        if is_zone(name):
            return name, "etc/timezone"
    link = files.root / "etc" / "localtime"
    if link.is_symlink():
        match = _ZONE_LINK.search(str(link.readlink()))
        if match and is_zone(match[1]):
            return match[1], "etc/localtime"
    return otherwise, "the estate's clock"


def host_name(files: HostFiles) -> str:
    """The host's name by etc/hostname, or an empty text."""
    for _, line in text_lines(files.bytes_of("etc/hostname") or b""):
        name = line.strip()
        if name and not name.startswith("#"):
            return name
    return ""
