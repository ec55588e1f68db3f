"""Public SSH keys and certificates: kind, size, fingerprint, validity. No private part is ever read.

The kind is taken from the key's own text, since a library may read a key that lives in hardware as a
plain one.
"""

from __future__ import annotations

import base64
import binascii
import hashlib
import warnings
from dataclasses import dataclass
from datetime import UTC, datetime

from cryptography.exceptions import InvalidSignature, UnsupportedAlgorithm
from cryptography.hazmat.primitives.serialization import (
    Encoding,
    PublicFormat,
    SSHCertificate,
    SSHCertificateType,
    load_ssh_public_identity,
    load_ssh_public_key,
)

from keymallet.core.base.listing import shortened
from keymallet.core.base.secrecy import quoted

_ALGORITHMS = {
    "ssh-rsa": "rsa",
    "ssh-dss": "dsa",
    "ssh-ed25519": "ed25519",
    "ecdsa-sha2-nistp256": "ecdsa",
    "ecdsa-sha2-nistp384": "ecdsa",
    "ecdsa-sha2-nistp521": "ecdsa",
    "sk-ssh-ed25519@openssh.com": "ed25519-sk",
    "sk-ecdsa-sha2-nistp256@openssh.com": "ecdsa-sk",
}
_BITS = {"ed25519": 256, "ed25519-sk": 256, "ecdsa-sk": 256, "dsa": 1024}
_CERTIFICATE = "-cert-v01@openssh.com"
_FOREVER = 2**64 - 1
_LAST = 253_402_300_799  # 9999-12-31T23:59:59Z


class NoKeyError(ValueError):
    """Text that is no public key; the message says why."""


@dataclass(frozen=True, slots=True)
class PublicKey:
    """A public key: `rsa`, `ed25519` and so on, its size in bits, its SHA-256 fingerprint."""

    algorithm: str
    bits: int
    fingerprint: str


@dataclass(frozen=True, slots=True)
class Certificate:
    """A user's SSH certificate. It works from `starts` on and before `ends` (None: forever)."""

    key: PublicKey
    signer: str
    principals: tuple[str, ...]
    key_id: str
    serial: int
    starts: datetime | None
    ends: datetime | None
    is_signed: bool
    is_of_user: bool
    limits: tuple[str, ...]
    is_limited: bool = False


def fingerprint(blob: bytes) -> str:
    """The SHA-256 fingerprint of a key's public bytes, as ssh-keygen prints it."""
    return "SHA256:" + base64.b64encode(hashlib.sha256(blob).digest()).decode().rstrip("=")


def read_key(kind: str, encoded: str) -> PublicKey:
    """Read a key from its two words. Raises NoKeyError."""
    algorithm = _ALGORITHMS.get(kind)
    if algorithm is None:
        raise NoKeyError(f"{quoted(kind)} is no kind of key")
    blob = _blob(kind, encoded)
    bits = _BITS.get(algorithm, 0)
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            loaded = load_ssh_public_key(f"{kind} {encoded}".encode())
        bits = bits or int(loaded.key_size)  # type: ignore[union-attr]
    except UnsupportedAlgorithm:
        pass  # of a kind that is known by its name alone
    except (ValueError, TypeError, UnicodeEncodeError) as error:
        raise NoKeyError(f"the key's bytes are damaged ({shortened(str(error))})") from None
    return PublicKey(algorithm, bits, fingerprint(blob))


def is_certificate(kind: str) -> bool:
    """Whether a key's first word names a certificate."""
    return kind.endswith(_CERTIFICATE)


def read_certificate(text: str) -> Certificate:
    """Read a certificate from the text of its file. Raises NoKeyError."""
    words = text.split(None, 2)
    if len(words) < 2 or not is_certificate(words[0]):
        raise NoKeyError("no SSH certificate stands here")
    try:
        certificate = load_ssh_public_identity(f"{words[0]} {words[1]}".encode())
    except (ValueError, TypeError, UnsupportedAlgorithm, UnicodeEncodeError) as error:
        raise NoKeyError(f"the certificate is damaged ({shortened(str(error))})") from None
    if not isinstance(certificate, SSHCertificate):
        raise NoKeyError("no SSH certificate stands here")
    try:
        certificate.verify_cert_signature()
        signed = True
    except (InvalidSignature, UnsupportedAlgorithm):
        signed = False
    public = certificate.public_key().public_bytes(Encoding.OpenSSH, PublicFormat.OpenSSH).split()
    # The library gives the plain kind of a key in hardware: the certificate's own name tells.
    algorithm = _ALGORITHMS.get(words[0].replace(_CERTIFICATE, ""), "") or _ALGORITHMS.get(
        words[0].replace(_CERTIFICATE, "@openssh.com"), "other"
    )
    bits = _BITS.get(algorithm) or int(getattr(certificate.public_key(), "key_size", 0))
    signer = certificate.signature_key().public_bytes(Encoding.OpenSSH, PublicFormat.OpenSSH).split()
    return Certificate(
        key=PublicKey(algorithm, bits, fingerprint(base64.b64decode(public[1]))),
        signer=fingerprint(base64.b64decode(signer[1])),
        principals=tuple(principal.decode("utf-8", "replace") for principal in certificate.valid_principals),
        key_id=certificate.key_id.decode("utf-8", "replace"),
        serial=certificate.serial,
        starts=_instant(certificate.valid_after) if certificate.valid_after else None,
        ends=None if certificate.valid_before >= _FOREVER else _instant(certificate.valid_before),
        is_signed=signed,
        is_of_user=certificate.type is SSHCertificateType.USER,
        limits=tuple(_limit(name, value) for name, value in certificate.critical_options.items()),
        is_limited=b"force-command" in certificate.critical_options,
    )


def _limit(name: bytes, value: bytes) -> str:
    text = value.decode("utf-8", "replace")
    if name == b"force-command":
        return f"one command: {text.split()[0] if text.split() else 'none'}"
    return f"{name.decode('utf-8', 'replace')} {text}".strip()


def _instant(seconds: int) -> datetime:
    return datetime.fromtimestamp(min(seconds, _LAST), UTC)


def _blob(kind: str, encoded: str) -> bytes:
    try:
        blob = base64.b64decode(encoded, validate=True)
    except (binascii.Error, ValueError):
        raise NoKeyError("the key is no base64") from None
    length = int.from_bytes(blob[:4], "big")
    if blob[4 : 4 + length] != kind.encode():
        raise NoKeyError(f'the key is not of the kind its line says, "{kind}"')
    return blob
