"""What a system has no notion of: none, and known to be so; not the same as what a source did not show."""

from __future__ import annotations

from keymallet.core.facts.declaration import ELEVATION, GRANT
from keymallet.core.facts.reading import NO_SUCH_THING, Reading


def rights_have_no_end(reading: Reading) -> None:
    """Enter that rights hold from when they are given until they are taken away, and none only for a time.

    So it is in a directory (membership of a group), in SCIM (RFC 7643 4.1.2: roles have no dates) and on a
    host (no privilege is asked for and closed again). What the source tells all the same, it tells.
    """
    if GRANT.name in reading.supply:
        told = reading.supply[GRANT.name]
        reading.supply[GRANT.name] = {**dict.fromkeys(("starts", "ends"), NO_SUCH_THING), **told}
    reading.supply.setdefault(ELEVATION.name, dict.fromkeys(ELEVATION.names, NO_SUCH_THING))
