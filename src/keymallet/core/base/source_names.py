"""Names of sources: an estate declares one, and each host of it is `declared/host`."""

from __future__ import annotations


def is_of(source: str, declared: str) -> bool:
    """Whether a source is the one an estate declares, or one of its hosts."""
    return source == declared or source.startswith(declared + "/")
