"""The keys and certificates that open the accounts of a host, out of their homes.

A home that was not brought along is not a home without keys: its account gets one row of which
nothing is known, so that no question about its keys is answered as if there were none.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any
from zoneinfo import ZoneInfo

from keymallet.core.base.listing import some_names
from keymallet.core.facts.evidence import NOTHING_KNOWN, UNREAD
from keymallet.sources.host.auth_log import Logged
from keymallet.sources.host.authorized_keys import AuthorizedKey, RefusedLineError, parse_line
from keymallet.sources.host.files import HostFiles, text_lines
from keymallet.sources.host.key_list import read_key_list
from keymallet.sources.host.lines import PasswdEntry
from keymallet.sources.host.revoked import Revoked, read_revoked
from keymallet.sources.host.sshd import SshServer
from keymallet.sources.shared.public_keys import Certificate, NoKeyError, read_certificate

_ENDING = "-cert.pub"


@dataclass
class KeyReader:
    """Reads the keys of one host's accounts."""

    files: HostFiles
    server: SshServer | None
    zone: ZoneInfo
    logged: Logged | None
    revoked: Revoked | None = None
    trusted: set[str] = field(default_factory=set)
    trust_is_known: bool = True
    unknown: list[str] = field(default_factory=list)

    def __post_init__(self) -> None:
        server = self.server or SshServer()
        path = server.path_value("revokedkeys")
        if path and path.lower() != "none":
            self.revoked = read_revoked(self.files, path)
            if self.revoked is None:
                self.files.remark(f"{self.files.shown(path)} is not there: which keys are revoked is unknown")
        path = server.path_value("trustedusercakeys")
        self.trust_is_known = self.server is not None
        if path and path.lower() != "none":
            self._read_trusted(path)

    def _read_trusted(self, path: str) -> None:
        data = self.files.bytes_of(path)
        if data is None:
            self.trust_is_known = False
            self.files.remark(
                f"{self.files.shown(path)} is not there: whose certificates are taken is unknown"
            )
            return
        self.trusted = read_key_list(self.files, path, data, "signing key")

    def rows(self, accounts: list[PasswdEntry]) -> list[dict[str, Any]] | None:
        """A row for each key and certificate; None if no account's home was brought along at all."""
        rows: list[dict[str, Any]] = []
        seen_any = False
        for entry in accounts:
            places = self._key_files(entry)
            if places is None or not self._brought_along(entry):
                self.unknown.append(entry.name)
                continue
            seen_any = seen_any or self.files.is_folder(entry.home) or any(map(self.files.is_there, places))
            rows += self._of(entry, places)
        if not seen_any:
            return None
        asked = [entry for entry in accounts if entry.name in self.unknown and entry.is_interactive]
        if asked:
            names = some_names([entry.name for entry in asked], 8)
            self.files.remark(f"{self.files.folder}: the keys of {names} were not brought along: unknown")
        return rows + [{"account": entry.name, UNREAD: [NOTHING_KNOWN]} for entry in asked]

    def _brought_along(self, entry: PasswdEntry) -> bool:
        """Whether a home that is not there is truly none: every host has /root, and its parents are there."""
        home = entry.home.rstrip("/")
        if self.files.is_folder(home or "/"):
            return True
        parent = home.rpartition("/")[0]
        return home != "/root" and self.files.is_folder(parent or "/")

    def _key_files(self, entry: PasswdEntry) -> list[str] | None:
        """The files sshd looks in; None where a command gives it keys as well."""
        server = self.server or SshServer()
        command = server.path_value("authorizedkeyscommand")
        if command and command.lower() != "none":
            self.files.remark(
                f"{self.files.folder}: keys also come from the command {command.split()[0]}: unknown"
            )
            return None
        patterns = server.path_value("authorizedkeysfile").split()
        return [self._expanded(pattern, entry) for pattern in patterns if pattern.lower() != "none"]

    def _of(self, entry: PasswdEntry, places: list[str]) -> Iterator[dict[str, Any]]:
        signers: dict[str, tuple[str, ...] | None] = {}
        for place in places:
            for number, line in text_lines(self.files.bytes_of(place) or b""):
                if not line.strip(" \t\r") or line.lstrip(" \t").startswith("#"):
                    continue
                try:
                    key = parse_line(line, self.zone)
                except RefusedLineError as refused:
                    self.files.refuse("key", place, number, str(refused))
                    continue
                if key.signs:
                    signers[key.key.fingerprint] = key.principals
                yield self._key_row(entry, key)
        folder = f"{entry.home.rstrip('/')}/.ssh"
        for name in self.files.names(folder):
            if name.endswith(_ENDING):
                row = self._certificate_row(entry, f"{folder}/{name}", signers)
                if row is not None:
                    yield row

    def _key_row(self, entry: PasswdEntry, key: AuthorizedKey) -> dict[str, Any]:
        print_ = key.key.fingerprint
        gone = self.revoked is not None and print_ in self.revoked.keys
        return {
            "account": entry.name,
            "key": print_,
            "kind": "ssh-key",
            "starts": None,
            "expires": key.expires,
            "last-used": self.logged.key_used.get((entry.name, print_)) if self.logged else None,
            "state": "revoked" if gone else "active",
            "algorithm": key.key.algorithm,
            "bits": key.key.bits,
            "digest": print_,
            "scope": key.scope or None,
            "label": key.comment or None,
        }

    def _certificate_row(
        self, entry: PasswdEntry, path: str, signers: dict[str, tuple[str, ...] | None]
    ) -> dict[str, Any] | None:
        text = (self.files.bytes_of(path) or b"").decode("utf-8", "replace")
        try:
            certificate = read_certificate(text)
        except NoKeyError as error:
            self.files.refuse("key", path, 1, str(error))
            return None
        if not certificate.is_of_user:
            self.files.remark(f"{self.files.shown(path)}: a host's certificate: no way in")
            return None
        names = f"for {', '.join(certificate.principals)}" if certificate.principals else "for any account"
        return {
            "account": entry.name,
            "key": f"{certificate.key.fingerprint} serial {certificate.serial}",
            "kind": "ssh-certificate",
            "starts": certificate.starts,
            "expires": certificate.ends,
            "last-used": None,
            "state": self._state(entry, certificate, signers),
            "algorithm": certificate.key.algorithm,
            "bits": certificate.key.bits,
            "digest": certificate.key.fingerprint,
            "scope": ", ".join((names, *certificate.limits)),
            "label": certificate.key_id or None,
        }

    def _state(
        self, entry: PasswdEntry, certificate: Certificate, signers: dict[str, tuple[str, ...] | None]
    ) -> str | None:
        """Whether this host takes the certificate for this account."""
        if self.revoked is not None and self.revoked.revokes(certificate):
            return "revoked"
        if not certificate.is_signed:
            return "inactive"
        if certificate.signer in signers:
            names = signers[certificate.signer]
            wanted = (entry.name,) if names is None else names
            # A bare signing key takes a certificate without names for anybody; one with names does not.
            fits = bool(set(wanted) & set(certificate.principals)) or (
                names is None and not certificate.principals
            )
            return "active" if fits else "inactive"
        if certificate.signer in self.trusted:
            return "active" if self._stands_for(entry) & set(certificate.principals) else "inactive"
        return "inactive" if self.trust_is_known else None

    def _stands_for(self, entry: PasswdEntry) -> set[str]:
        """The names a certificate needs one of: the login name, or those of AuthorizedPrincipalsFile."""
        pattern = (self.server or SshServer()).path_value("authorizedprincipalsfile")
        if not pattern or pattern.lower() == "none":
            return {entry.name}
        place = self._expanded(pattern, entry)
        lines = (line.strip() for _, line in text_lines(self.files.bytes_of(place) or b""))
        return {line.split()[-1] for line in lines if line and not line.startswith("#")}

    def _expanded(self, pattern: str, entry: PasswdEntry) -> str:
        """A path with sshd's signs filled in, from the account's home if it is not a whole one."""
        text = pattern.replace("%%", "\0").replace("%h", entry.home).replace("%u", entry.name)
        text = text.replace("%U", str(entry.uid)).replace("\0", "%")
        return text if text.startswith("/") else f"{entry.home.rstrip('/')}/{text}"
