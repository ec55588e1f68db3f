"""A signer and a server's certificate, made on the spot: good ones, and such as nobody should trust."""

from __future__ import annotations

import ipaddress
from datetime import UTC, datetime, timedelta
from pathlib import Path

from cryptography import x509
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.hazmat.primitives.hashes import SHA256
from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat
from cryptography.x509.oid import NameOID

GOOD, EXPIRED, OTHER_HOST = "good", "expired", "other-host"
KINDS = (GOOD, EXPIRED, OTHER_HOST)
_NOT_US = "elsewhere.gvr.example"


def make_certificate(folder: Path, kind: str = GOOD) -> tuple[Path, Path]:
    """Write a signer's certificate and a server's with its key, signed by it: the two files.

    The server's is for this machine's loopback, unless it is the one for another host.
    """
    now = datetime.now(UTC)
    signer_key, server_key = (ec.generate_private_key(ec.SECP256R1()) for _ in range(2))
    signer_name = _named("Gentian Valley Railway, made-up signer")
    until = now + timedelta(days=2)
    signer = (
        _builder(signer_name, signer_name, signer_key, now - timedelta(days=9), until)
        .add_extension(x509.BasicConstraints(ca=True, path_length=None), critical=True)
        .sign(signer_key, SHA256())
    )
    names: list[x509.GeneralName] = [x509.DNSName(_NOT_US)]
    if kind != OTHER_HOST:
        names = [x509.DNSName("localhost"), x509.IPAddress(ipaddress.ip_address("127.0.0.1"))]
    ended = now - timedelta(days=1) if kind == EXPIRED else until
    subject = _named(_NOT_US if kind == OTHER_HOST else "127.0.0.1")
    server = (
        _builder(signer_name, subject, server_key, now - timedelta(days=8), ended)
        .add_extension(x509.SubjectAlternativeName(names), critical=False)
        .sign(signer_key, SHA256())
    )
    signer_file, server_file = folder / "signer.pem", folder / "server.pem"
    signer_file.write_bytes(signer.public_bytes(Encoding.PEM))
    key = server_key.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption())
    server_file.write_bytes(server.public_bytes(Encoding.PEM) + key)
    return signer_file, server_file


def _named(name: str) -> x509.Name:
    return x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, name)])


def _builder(
    issuer: x509.Name, subject: x509.Name, key: ec.EllipticCurvePrivateKey, begun: datetime, ended: datetime
) -> x509.CertificateBuilder:
    return (
        x509.CertificateBuilder()
        .issuer_name(issuer)
        .subject_name(subject)
        .public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(begun)
        .not_valid_after(ended)
    )
