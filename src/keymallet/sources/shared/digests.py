"""Digests by which copies of a secret are seen, with a key that is gone when the program ends."""

from __future__ import annotations

import secrets

from blake3 import blake3

_KEY = secrets.token_bytes(32)


def keyed(secret: str) -> str:
    """The digest of a secret. The same secret has the same one within this run alone."""
    return blake3(secret.encode(), key=_KEY).hexdigest()


def key_of_this_process() -> bytes:
    """The key, for processes that read for this one: what they digest has to compare with what it does."""
    return _KEY


def take_key(key: bytes) -> None:
    """Digest with the key of another process from now on."""
    global _KEY
    _KEY = key
