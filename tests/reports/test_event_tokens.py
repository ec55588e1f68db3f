"""Signed security event tokens, verified by a library that is not the one they are signed with."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest
from cryptography.hazmat.primitives.asymmetric import ec, ed25519, rsa
from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat, PublicFormat
from joserfc import jwt
from joserfc.errors import BadSignatureError
from joserfc.jwk import ECKey, OKPKey, RSAKey

from tests.support import run, write

AT = "2026-11-24T09:00Z"
RISK = "https://schemas.openid.net/secevent/caep/event-type/risk-level-change"
CREDENTIAL = "https://schemas.openid.net/secevent/risc/event-type/account-credential-change-required"
ESTATE = """organisation = "Tannery"
clock = "UTC"
rulebook = "b.toml"
logbook = "logbook"
[events]
issuer = "https://identity.tannery.example/"
audience = ["https://receiver.tannery.example/"]
sign-with = "file:key.pem"
[source.d]
read = "csv"
map = "d.toml"
files = { account = "d.csv" }
"""
BOOK = """title = "T"
[rule.age]
title = "Passwords are changed"
must = "age(password-changed) <= 90d"
severity = "medium"
[rule.on]
title = "All are on"
must = "enabled"
severity = "critical"
"""
OLD, FRESH = "2026-01-05", "2026-11-20"


def pem(key: Any) -> tuple[bytes, bytes]:
    public = key.public_key().public_bytes(Encoding.PEM, PublicFormat.SubjectPublicKeyInfo)
    return key.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption()), public


@pytest.fixture
def tannery(tmp_path: Path) -> Path:
    private, public = pem(ed25519.Ed25519PrivateKey.generate())
    maps = '[account.columns]\nname = "n"\npassword-changed = "s"\nenabled = { from = "e", true = ["y"], false = ["n"] }\n'
    files: dict[str, str | bytes] = {
        "estate.toml": ESTATE,
        "b.toml": BOOK,
        "d.toml": maps,
        "key.pem": private,
        "public.pem": public,
    }
    return write(tmp_path, files)


def judged(there: Path, day: str, **accounts: tuple[str, str]) -> None:
    rows = "".join(f"{name},{changed},{on}\n" for name, (changed, on) in accounts.items())
    write(there, {"d.csv": f"n,s,e\n{rows}"})
    run("read", "--at", f"{day}T09:00Z", cwd=there)
    run("judge", "--at", f"{day}T09:00Z", "--record", cwd=there)


def tokens(there: Path, key: Any = None) -> list[dict[str, Any]]:
    """The claims of every token, each verified."""
    run("report", "--format", "set", "--output", "r.set", cwd=there, expect=0)
    key = key or OKPKey.import_key((there / "public.pem").read_bytes())
    found = []
    for line in (there / "r.set").read_text().splitlines():
        token = jwt.decode(line, key, algorithms=["Ed25519", "EdDSA", "ES256", "RS256"])
        assert token.header["typ"] == "secevent+jwt"
        found.append(token.claims)
    return found


def events(claims: list[dict[str, Any]]) -> dict[tuple[str, str], dict[str, Any]]:
    return {
        (each["sub_id"]["id"], kind.rpartition("/")[2]): told
        for each in claims
        for kind, told in each["events"].items()
    }


def test_what_a_run_changed_is_told_once(tannery: Path) -> None:
    """New, worse, better and over, account by account; what stays is no event, nor is what was not seen."""
    judged(tannery, "2026-11-24", ada=(OLD, "y"), bea=(FRESH, "n"), cy=(OLD, "n"), dan=(FRESH, "y"))
    claims = tokens(tannery)
    assert {each["iss"] for each in claims} == {"https://identity.tannery.example/"}
    assert len({each["jti"] for each in claims}) == len(claims) and all(
        len(each["events"]) == 1 for each in claims
    )
    levels = {
        account: told["current_level"] for (account, kind), told in events(claims).items() if "risk" in kind
    }
    assert levels == {"d/ada": "MEDIUM", "d/bea": "HIGH", "d/cy": "HIGH"}
    assert {account for account, kind in events(claims) if "credential" in kind} == {"d/ada", "d/cy"}
    judged(tannery, "2026-11-25", ada=(OLD, "n"), bea=(FRESH, "y"), cy=(OLD, "y"), dan=(FRESH, "y"))
    told = events(tokens(tannery))
    moved = {
        account: (each.get("previous_level"), each["current_level"]) for (account, _), each in told.items()
    }
    assert moved == {"d/ada": ("MEDIUM", "HIGH"), "d/bea": ("HIGH", "LOW"), "d/cy": ("HIGH", "MEDIUM")}
    judged(tannery, "2026-11-26", ada=(OLD, "n"), bea=(FRESH, "y"), cy=(OLD, "y"), dan=(FRESH, "y"))
    assert tokens(tannery) == []
    judged(tannery, "2026-11-27", ada=("", "y"), bea=(FRESH, "y"), cy=("", "y"), dan=(FRESH, "y"))
    told = events(tokens(tannery))
    assert {account for account, _ in told} == {"d/ada"} and told["d/ada", "risk-level-change"][
        "current_level"
    ] == "MEDIUM"


def test_every_kind_of_key_that_may_sign(tannery: Path) -> None:
    judged(tannery, "2026-11-24", ada=(OLD, "y"))
    for made, reader in (
        (ec.generate_private_key(ec.SECP256R1()), ECKey),
        (rsa.generate_private_key(65537, 2048), RSAKey),
    ):
        private, public = pem(made)
        write(tannery, {"key.pem": private})
        assert len(tokens(tannery, reader.import_key(public))) == 2
    with pytest.raises(BadSignatureError):
        tokens(tannery, RSAKey.import_key(pem(rsa.generate_private_key(65537, 2048))[1]))


@pytest.mark.parametrize(
    ("key", "told"),
    [
        (b"hunter22", "no private key without a password"),
        (pem(ec.generate_private_key(ec.SECP384R1()))[0], "tokens are not signed with here"),
        (pem(rsa.generate_private_key(65537, 1024))[0], "tokens are not signed with here"),
    ],
)
def test_a_key_that_cannot_sign(tannery: Path, key: bytes, told: str) -> None:
    judged(tannery, "2026-11-24", ada=(OLD, "y"))
    write(tannery, {"key.pem": key})
    done = run("report", "--format", "set", "--output", "r.set", cwd=tannery, expect=2)
    assert (
        told in " ".join(done.stderr.split())
        and "hunter22" not in done.stderr
        and not (tannery / "r.set").exists()
    )


def test_an_estate_that_signs_nothing(tannery: Path) -> None:
    judged(tannery, "2026-11-24", ada=(OLD, "y"))
    write(tannery, {"estate.toml": ESTATE.replace("https://identity", "http://identity")})
    assert (
        "is no address of an issuer"
        in run("report", "--format", "set", "--output", "r.set", cwd=tannery, expect=2).stderr
    )
    section = ESTATE[ESTATE.index("[events]") : ESTATE.index("[source.d]")]
    write(tannery, {"estate.toml": ESTATE.replace(section, "")})
    told = run("report", "--format", "set", "--output", "r.set", cwd=tannery, expect=2).stderr
    assert "names nobody who signs them" in told
