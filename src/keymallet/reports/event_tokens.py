"""A report as security event tokens (RFC 8417), signed with a key of the organisation's: one a line.

Only what a run changed is an event, and only what an event type of the OpenID profiles fits: that the
credential of an account has to be changed (RISC), and that the risk of one is another (CAEP). Whom it is
about is named by the account, as `opaque` (RFC 9493).
"""

from __future__ import annotations

import hashlib
from collections.abc import Iterator
from typing import Any

import polars as pl

from keymallet.core.base.optional_packages import extra
from keymallet.core.base.printable import plain
from keymallet.core.base.problems import fail
from keymallet.core.history.states import ENDS, State
from keymallet.core.rulebook.model import SEVERITIES
from keymallet.reports.content import Content, basis
from keymallet.reports.registry import Issuer, Look

CHANGE_REQUIRED = "https://schemas.openid.net/secevent/risc/event-type/account-credential-change-required"
RISK_CHANGED = "https://schemas.openid.net/secevent/caep/event-type/risk-level-change"
_BEGINS = ("new", "back", "exemption ended")
_LEVEL = {"critical": "HIGH", "high": "HIGH", "medium": "MEDIUM", "low": "LOW"}
_OF_PASSWORDS = ("account.password-", "account.initial-password")
"""What the facts of a rule begin with that only another password can mend."""
_MADE_BY = "openssl genpkey -algorithm ed25519 -out events.pem makes one"


def write(content: Content, look: Look) -> bytes:
    """The tokens. Raises KeymalletError if the estate names no issuer and key, or the key cannot sign."""
    if look.issuer is None:
        hint = '[events] with issuer = "https://identity.ferries.example/" and sign-with = "file:events.pem"'
        raise fail("event tokens are signed, and this estate names nobody who signs them", hint=hint)
    jwt: Any = extra("jwt", "events", "reports as security event tokens")
    key, algorithm, known_as = _key(look.issuer)
    header = {"typ": "secevent+jwt", "kid": known_as}
    lines = [
        jwt.encode(claims, key, algorithm=algorithm, headers=header)
        for claims in _claims(content, look.issuer)
    ]
    return "".join(f"{line}\n" for line in lines).encode()


def _claims(content: Content, issuer: Issuer) -> Iterator[dict[str, Any]]:
    at = int(content.at.timestamp())
    basics: dict[str, Any] = {"iss": issuer.name, "iat": at, "toe": at, "txn": content.head}
    if issuer.audience:
        basics["aud"] = list(issuer.audience)
    for account, event, told in _events(content):
        number = hashlib.sha256("\0".join((content.head, account, event)).encode()).hexdigest()[:32]
        subject = {"format": "opaque", "id": account}
        yield {**basics, "jti": number, "sub_id": subject, "events": {event: told}}


def _events(content: Content) -> Iterator[tuple[str, str, dict[str, Any]]]:
    """Account, kind and content of each event, in the order of accounts."""
    rests = "; ".join(f"{what}: {value}" for what, value in basis(content))
    at = int(content.at.timestamp())
    passwords = {
        rule.id for rule in content.rules if any(fact.startswith(_OF_PASSWORDS) for fact in rule.facts)
    }
    # What was not seen in this run is not over: it counts as before.
    lasting = content.findings.filter(pl.col("state") != str(State.EXEMPT))
    broken = lasting.filter(pl.col("account").is_not_null() & pl.col("name").is_not_null())
    of_account = {str(name): rows for (name,), rows in broken.group_by("account", maintain_order=True)}
    ends = [str(state) for state in ENDS if state is not State.ACCOUNT_GONE]
    ended = content.changes.filter(pl.col("state").is_in(ends) & pl.col("account").is_not_null())
    over = {str(name): rows for (name,), rows in ended.group_by("account", maintain_order=True)}
    for account in sorted({*of_account, *over}):
        rows = of_account.get(account, broken.clear())
        begun = rows.filter(pl.col("state").is_in(_BEGINS))
        for row in begun.filter(pl.col("rule").is_in(passwords)).head(1).iter_rows(named=True):
            yield account, CHANGE_REQUIRED, {"event_timestamp": at, "reason_admin": {"en": _reason(row)}}
        now = _worst(rows)
        before = _worst(pl.concat([_kept(rows, begun), _severities(over.get(account))]))
        if now != before:
            said = [_reason(row) for row in rows.iter_rows(named=True)][:5] or [
                "nothing is in breach any more"
            ]
            told: dict[str, Any] = {
                "principal": "USER",
                "current_level": _LEVEL[now] if now else "LOW",
                "event_timestamp": at,
                "initiating_entity": "policy",
                "risk_reason": "; ".join(said),
                "reason_admin": {"en": plain(rests)},
            }
            if before:
                told["previous_level"] = _LEVEL[before]
            if told["current_level"] != told.get("previous_level"):
                yield account, RISK_CHANGED, told


def _kept(rows: pl.DataFrame, begun: pl.DataFrame) -> pl.DataFrame:
    return _severities(rows.join(begun, on="finding-id", how="anti", maintain_order="left"))


def _severities(rows: pl.DataFrame | None) -> pl.DataFrame:
    return rows.select("severity") if rows is not None else pl.DataFrame(schema={"severity": pl.String})


def _worst(rows: pl.DataFrame) -> str:
    there = set(rows["severity"])
    return next((word for word in SEVERITIES if word in there), "")


def _reason(row: dict[str, Any]) -> str:
    return plain(
        f"{row['title'] or row['rule']}: {row['because']}" if row["because"] else row["title"] or row["rule"]
    )


def _key(issuer: Issuer) -> tuple[Any, str, str]:
    """The private key, the algorithm it signs with, and what its public half is known by."""
    from cryptography.exceptions import UnsupportedAlgorithm
    from cryptography.hazmat.primitives.asymmetric import ec, ed25519, rsa
    from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat, load_pem_private_key

    try:
        key = load_pem_private_key(issuer.key.encode(), password=None)
    except (ValueError, TypeError, UnsupportedAlgorithm):
        raise fail("[events] sign-with is no private key without a password (PEM)", hint=_MADE_BY) from None
    if isinstance(key, ed25519.Ed25519PrivateKey):
        algorithm = "EdDSA"
    elif isinstance(key, rsa.RSAPrivateKey) and key.key_size >= 2048:
        algorithm = "RS256"
    elif isinstance(key, ec.EllipticCurvePrivateKey) and isinstance(key.curve, ec.SECP256R1):
        algorithm = "ES256"
    else:
        said = "[events] sign-with is a key that tokens are not signed with here"
        raise fail(said, hint=f"Ed25519, P-256, or RSA of 2048 bits or more; {_MADE_BY}")
    public = key.public_key().public_bytes(Encoding.DER, PublicFormat.SubjectPublicKeyInfo)
    return key, algorithm, hashlib.sha256(public).hexdigest()[:16]
