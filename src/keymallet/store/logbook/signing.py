"""Signatures on the heads of the chain: Ed25519 (RFC 8032), by a key that the estate names."""

from __future__ import annotations

import base64
import binascii
from pathlib import Path

from cryptography.exceptions import InvalidSignature, UnsupportedAlgorithm
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey, Ed25519PublicKey
from cryptography.hazmat.primitives.serialization import load_pem_private_key, load_pem_public_key

from keymallet.core.base.problems import fail

_MADE_BY = "openssl genpkey -algorithm ed25519 -out signing-key.pem makes one"
_PUBLIC_BY = "openssl pkey -in signing-key.pem -pubout -out signing-key.pub.pem makes it"


class Signer:
    """Signs heads with a private key, which shows itself nowhere."""

    def __init__(self, pem: str, said: str) -> None:
        try:
            key = load_pem_private_key(pem.encode(), password=None)
        except (ValueError, TypeError, UnsupportedAlgorithm):
            raise fail("this is no private key without a password (PEM)", file=said, hint=_MADE_BY) from None
        if not isinstance(key, Ed25519PrivateKey):
            raise fail(
                "the logbook is signed with an Ed25519 key, and this is another", file=said, hint=_MADE_BY
            )
        self._key = key

    def __call__(self, head: str) -> str:
        """The signature on a head, as base64."""
        return base64.b64encode(self._key.sign(head.encode())).decode()


def read_public_key(path: Path) -> Ed25519PublicKey:
    """The public key in a PEM file. Raises KeymalletError if there is none."""
    try:
        key = load_pem_public_key(path.read_bytes())
    except OSError as error:
        raise fail(f"the key cannot be read: {error.strerror}", file=str(path), hint=_PUBLIC_BY) from None
    except (ValueError, UnsupportedAlgorithm):
        raise fail("this is no public key (PEM)", file=str(path), hint=_PUBLIC_BY) from None
    if not isinstance(key, Ed25519PublicKey):
        raise fail("this is no Ed25519 key", file=str(path), hint=_PUBLIC_BY)
    return key


def is_signed(head: str, signature: str, key: Ed25519PublicKey) -> bool:
    """Whether the signature is that of the key on this head."""
    try:
        key.verify(base64.b64decode(signature, validate=True), head.encode())
    except (InvalidSignature, binascii.Error, ValueError):
        return False
    return True
