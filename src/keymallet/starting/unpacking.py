"""Archives of hosts, unpacked where the estate reads them."""

from __future__ import annotations

import tarfile
from pathlib import Path

from keymallet.core.base.problems import fail

_MOST_MEMBERS, _MOST_BYTES = 200_000, 4_000_000_000


def unpack(archive: Path, shown: str, into: Path) -> None:
    """Unpack a host's files into a folder of their own, owners and modes as root may set them.

    Raises KeymalletError where it holds more than a host's files can be, or where one would lie outside.
    """
    try:
        with tarfile.open(archive) as packed:
            members, size = 0, 0
            for member in packed:
                members, size = members + 1, size + member.size
                if members > _MOST_MEMBERS or size > _MOST_BYTES:
                    raise fail("far more than the files of a host", file=shown, hint="is it the right one?")
            into.mkdir(parents=True)
            packed.extractall(into, filter="tar")
    except (tarfile.TarError, OSError, EOFError) as error:
        raise fail(f"it cannot be unpacked: {error}", file=shown) from None
