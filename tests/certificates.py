"""Certificates of an authority of the tests, for servers on this machine."""

from __future__ import annotations

import subprocess
from pathlib import Path

from tests.oracles import program


def make_certificates(folder: Path, names: str = "IP:127.0.0.1,DNS:localhost") -> None:
    """`ca.pem`, and `server.pem` with `server.key` that it has signed for these names."""

    def openssl(*words: str) -> None:
        subprocess.run([program("openssl"), *words], cwd=folder, capture_output=True, check=True)

    new = ["-newkey", "rsa:2048", "-nodes", "-days", "2"]
    openssl("req", "-x509", *new, "-keyout", "ca.key", "-out", "ca.pem", "-subj", "/CN=test ca")
    openssl("req", *new, "-keyout", "server.key", "-out", "server.csr", "-subj", "/CN=127.0.0.1")
    (folder / "names").write_text(f"subjectAltName={names}\n")
    openssl(
        *"x509 -req -in server.csr -CA ca.pem -CAkey ca.key -CAcreateserial -days 2 -out server.pem -extfile names".split()
    )
