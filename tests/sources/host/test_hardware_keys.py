"""A key that lives in hardware is another factor than a file."""

from __future__ import annotations

from pathlib import Path

import pytest
from cryptography.hazmat.primitives.asymmetric import ec, ed25519
from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat

from tests.support import run, write


def blob(*parts: bytes) -> bytes:
    """Strings with their lengths, as SSH writes them (RFC 4251 5)."""
    return b"".join(len(part).to_bytes(4, "big") + part for part in parts)


def line(kind: str) -> str:
    """A public key of that kind, as it stands in authorized_keys."""
    import base64

    if "ed25519" in kind:
        raw = ed25519.Ed25519PrivateKey.generate().public_key().public_bytes(Encoding.Raw, PublicFormat.Raw)
        parts = [kind.encode(), raw]
    else:
        point = (
            ec.generate_private_key(ec.SECP256R1())
            .public_key()
            .public_bytes(Encoding.X962, PublicFormat.UncompressedPoint)
        )
        parts = [kind.encode(), b"nistp256", point]
    if kind.startswith("sk-"):
        parts.append(b"ssh:")
    return f"{kind} {base64.b64encode(blob(*parts)).decode()} desk\n"


@pytest.mark.parametrize(
    ("kind", "factor"),
    [
        ("ssh-ed25519", "software-key"),
        ("ecdsa-sha2-nistp256", "software-key"),
        ("sk-ssh-ed25519@openssh.com", "hardware-key"),
        ("sk-ecdsa-sha2-nistp256@openssh.com", "hardware-key"),
    ],
)
def test_what_a_key_proves(tmp_path: Path, kind: str, factor: str) -> None:
    """Only what cannot be copied resists a false site."""
    write(
        tmp_path,
        {
            "estate.toml": 'organisation = "O"\nclock = "UTC"\nrulebook = "r.toml"\n[source.vm]\nread = "host"\nfolder = "vm"\n',
            "r.toml": 'title = "T"\n[rule.r]\ntitle = "R"\nseverity = "high"\nmust = "no factor (phishing-resistant)"\n',
            "vm/etc/passwd": "c:x:1000:1000::/home/c:/bin/sh\n",
            "vm/etc/shadow": "c:*:1:0:::::\n",
            "vm/home/c/.ssh/authorized_keys": line(kind),
        },
    )
    run("read", cwd=tmp_path)
    wanted = (
        "who",
        f"some factor (kind = {factor} and state = active)",
        "--columns",
        "account",
        "--format",
        "csv",
    )
    assert run(*wanted, cwd=tmp_path, expect=0).stdout.split()[1:] == ["vm/c"]
    told = run("judge", "--format", "csv", cwd=tmp_path).stdout
    assert (",breach," in told) is (factor == "hardware-key")
