"""RevokedKeys of sshd: a list of public keys, or a binary revocation list (OpenSSH's PROTOCOL.krl).

Of a binary list the sections that name keys by their bytes or digests, and certificates by serial
number or id, are understood; a section of another kind is noted, since sshd would heed it.
"""

from __future__ import annotations

import base64
import struct
from dataclasses import dataclass, field

from keymallet.sources.host.files import HostFiles
from keymallet.sources.host.key_list import read_key_list
from keymallet.sources.shared.public_keys import Certificate, fingerprint

_MAGIC = b"SSHKRL\n\0"
_CERTIFICATES, _KEYS, _SHA1, _SIGNATURE, _SHA256 = 1, 2, 3, 4, 5
_SERIALS, _RANGE, _BITMAP, _KEY_IDS = 0x20, 0x21, 0x22, 0x23


@dataclass
class Revoked:
    """What is revoked: keys by fingerprint; certificates by signer (empty: any) and serial or id."""

    keys: set[str] = field(default_factory=set)
    serials: list[tuple[str, int, int]] = field(default_factory=list)
    key_ids: set[tuple[str, str]] = field(default_factory=set)

    def revokes(self, certificate: Certificate) -> bool:
        """Whether a certificate, its key or its signer is revoked."""
        if {certificate.key.fingerprint, certificate.signer} & self.keys:
            return True
        for signer in ("", certificate.signer):
            if (signer, certificate.key_id) in self.key_ids:
                return True
        return any(
            signer in ("", certificate.signer) and first <= certificate.serial <= last
            for signer, first, last in self.serials
        )


def read_revoked(files: HostFiles, path: str) -> Revoked | None:
    """Read the file RevokedKeys names; None where it is not there (sshd then refuses every key)."""
    data = files.bytes_of(path)
    if data is None:
        return None
    revoked = Revoked()
    if not data.startswith(_MAGIC):
        revoked.keys = read_key_list(files, path, data, "revoked key")
        return revoked
    try:
        _read_binary(files, path, data, revoked)
    except (struct.error, ValueError, IndexError):
        files.refuse("key", path, 0, "the revocation list is damaged; sshd would refuse every key")
    return revoked


def _read_binary(files: HostFiles, path: str, data: bytes, revoked: Revoked) -> None:
    place = len(_MAGIC) + 4 + 8 + 8 + 8
    for _ in range(2):  # a reserved text and a comment
        _, place = _text(data, place)
    while place < len(data):
        kind = data[place]
        body, place = _text(data, place + 1)
        if kind == _CERTIFICATES:
            _read_certificates(body, revoked)
        elif kind in (_KEYS, _SHA256):
            for serial in _texts(body):
                digest = "SHA256:" + base64.b64encode(serial).decode().rstrip("=")
                revoked.keys.add(fingerprint(serial) if kind == _KEYS else digest)
        elif kind == _SHA1:
            files.remark(
                f"{files.shown(path)}: keys revoked by SHA-1 cannot be recognised by their fingerprint"
            )
        elif kind == _SIGNATURE:
            return
        else:
            files.remark(f"{files.shown(path)}: a section of kind {kind} is not understood")


def _read_certificates(body: bytes, revoked: Revoked) -> None:
    signer_blob, place = _text(body, 0)
    signer = fingerprint(signer_blob) if signer_blob else ""
    _, place = _text(body, place)  # reserved
    while place < len(body):
        kind = body[place]
        inner, place = _text(body, place + 1)
        if kind == _SERIALS:
            numbers = struct.unpack(f">{len(inner) // 8}Q", inner)
            revoked.serials += [(signer, number, number) for number in numbers]
        elif kind == _RANGE:
            first, last = struct.unpack(">QQ", inner)
            revoked.serials.append((signer, first, last))
        elif kind == _BITMAP:
            offset = struct.unpack(">Q", inner[:8])[0]
            bits = int.from_bytes(_text(inner, 8)[0], "big")
            serials = (offset + bit for bit in range(bits.bit_length()) if bits >> bit & 1)
            revoked.serials += [(signer, serial, serial) for serial in serials]
        elif kind == _KEY_IDS:
            revoked.key_ids |= {(signer, text.decode("utf-8", "replace")) for text in _texts(inner)}


def _text(data: bytes, place: int) -> tuple[bytes, int]:
    (length,) = struct.unpack_from(">I", data, place)
    end = place + 4 + length
    if end > len(data):
        raise ValueError("cut off")
    return data[place + 4 : end], end


def _texts(data: bytes) -> list[bytes]:
    items, place = [], 0
    while place < len(data):
        item, place = _text(data, place)
        items.append(item)
    return items
