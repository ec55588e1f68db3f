"""Mail addresses as every server takes them."""

from __future__ import annotations

import re

_ADDRESS = re.compile(r"[A-Za-z0-9.!#$%&'*+/=?^_`{|}~-]{1,64}@[A-Za-z0-9-]+(?:\.[A-Za-z0-9-]+)*")


def is_address(text: str) -> bool:
    """Whether this is an unquoted local part and a host name, in ASCII (RFC 5321, section 4.1.2)."""
    return len(text) <= 254 and _ADDRESS.fullmatch(text) is not None
