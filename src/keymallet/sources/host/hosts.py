"""`read = "host"`: every host below a folder, each a source of its own, called `source/host`.

A folder is one host's root (it holds `etc/passwd`), or holds one such folder for each host. What a file
would have told is not supplied where the file is not there. No hash and no key beyond its public
fingerprint leaves this package.
"""

from __future__ import annotations

from keymallet.core.base.listing import some_names
from keymallet.core.base.problems import fail
from keymallet.core.facts.reading import Reading
from keymallet.sources.host.reader import HostReader
from keymallet.sources.host.side_by_side import read_hosts
from keymallet.sources.request import Request
from keymallet.sources.sections import HostSection


def read(section: HostSection, request: Request) -> list[Reading]:
    """Read every host below the folder. Raises KeymalletError if there is none."""
    root = request.folder / section.folder
    if not root.is_dir():
        raise fail("there is no such folder", file=section.folder, hint="folder = … in the estate file")
    if (root / "etc" / "passwd").is_file():
        return [HostReader(section, request, request.name, section.folder).reading()]
    folders = sorted(entry.name for entry in root.iterdir() if entry.is_dir())
    hosts = [name for name in folders if (root / name / "etc" / "passwd").is_file()]
    if not hosts:
        hint = "a host's folder holds etc/passwd, or one folder for each host"
        raise fail("no host stands here", file=section.folder, hint=hint)
    readings = read_hosts(section, request, hosts)
    left_out = [name for name in folders if name not in hosts]
    if left_out:
        readings[0].remarks.append(f"{section.folder}: no etc/passwd in {some_names(left_out, 8)}")
    return readings
