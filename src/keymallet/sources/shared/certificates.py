"""Keys that a directory publishes for an account: X.509 certificates and SSH keys."""

from __future__ import annotations

import hashlib
import warnings
from typing import Any

from cryptography import x509
from cryptography.exceptions import UnsupportedAlgorithm
from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat

from keymallet.sources.directory.entries import Entry
from keymallet.sources.shared.public_keys import NoKeyError, read_key

CERTIFICATES = ("usercertificate", "usercertificate;binary")
SSH_KEYS = ("sshpublickey", "ipasshpubkey")
KEY_FACTS = "account key kind starts expires state algorithm bits digest scope label".split()


class UnreadableKeyError(ValueError):
    """A value that is no key; the message says why."""


def certificate_row(login: str, data: bytes) -> dict[str, Any]:
    """A certificate as a key, with its validity. Raises UnreadableKeyError."""
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            certificate = x509.load_der_x509_certificate(data)
            public = certificate.public_key()
            starts, ends = certificate.not_valid_before_utc, certificate.not_valid_after_utc
            blob = public.public_bytes(Encoding.DER, PublicFormat.SubjectPublicKeyInfo)
            issuer = certificate.issuer.rfc4514_string()
    except (ValueError, TypeError, UnsupportedAlgorithm, OverflowError) as error:
        raise UnreadableKeyError(f"no certificate: {str(error)[:60]}") from None
    return {
        "account": login,
        "key": f"serial {certificate.serial_number:x}",
        "kind": "certificate",
        "starts": starts,
        "expires": ends,
        "state": "active",
        "algorithm": type(public).__name__.removesuffix("PublicKey").lstrip("_").lower(),
        "bits": getattr(public, "key_size", None),
        "digest": "SHA256:" + hashlib.sha256(blob).hexdigest(),
        "scope": f"issued by {issuer}",
        "label": None,
    }


def ssh_row(login: str, text: str) -> dict[str, Any]:
    """An SSH key that hosts fetch from the directory. Raises UnreadableKeyError."""
    words = text.split(None, 2)
    try:
        key = read_key(*words[:2]) if len(words) > 1 else None
    except NoKeyError as error:
        raise UnreadableKeyError(str(error)) from None
    if key is None:
        raise UnreadableKeyError("no SSH key stands here")
    return {
        "account": login,
        "key": key.fingerprint,
        "kind": "ssh-key",
        "starts": None,
        "expires": None,
        "state": "active",
        "algorithm": key.algorithm,
        "bits": key.bits,
        "digest": key.fingerprint,
        "scope": None,
        "label": words[2].strip() if len(words) > 2 else None,
    }


def has_keys(entries: list[Entry]) -> bool:
    """Whether any entry publishes a key: only then is it known that another has none."""
    return any(entry.has(*CERTIFICATES, *SSH_KEYS) for entry in entries)
