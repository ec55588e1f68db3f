"""The keys and certificates that open the accounts of a host, out of their homes.

A home that was not brought along is not a home without keys: its account gets one row of which
nothing is known, so that no question about its keys is answered as if there were none. A key that the
server does not take is inactive: of a kind or size it refuses, in a file that others can write.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from datetime import datetime
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
from keymallet.sources.host.sshd import Settings, SshServer, words_of
from keymallet.sources.host.sshd_doors import Door
from keymallet.sources.shared.public_keys import Certificate, NoKeyError, read_certificate

_ENDING = "-cert.pub"


@dataclass
class _Trust:
    """Who may sign certificates, and what is revoked, by the files that one set of settings names."""

    revoked: Revoked | None
    signers: frozenset[str]
    is_known: bool


@dataclass
class KeyReader:
    """Reads the keys of one host's accounts."""

    files: HostFiles
    server: SshServer | None
    zone: ZoneInfo
    logged: Logged | None
    doors_of: Callable[[PasswdEntry], list[Door]]
    _trusts: dict[tuple[str, str], _Trust] = field(default_factory=dict)

    def rows(self, accounts: list[PasswdEntry]) -> list[dict[str, Any]] | None:
        """A row for each key and certificate; None if nothing tells of any account's keys at all.

        An account of whose keys some may be missing has one more row, of which nothing is known.
        """
        rows: list[dict[str, Any]] = []
        unknown: list[PasswdEntry] = []
        for entry in accounts:
            account = _AccountKeys(self, entry)
            rows += account.rows()
            if not account.is_whole:
                unknown.append(entry)
        if len(unknown) == len(accounts) and not rows:
            return None
        if unknown:
            names = some_names([entry.name for entry in unknown], 8)
            self.files.remark(f"{self.files.folder}: the keys of {names} were not brought along: unknown")
        return rows + [{"account": entry.name, UNREAD: [NOTHING_KNOWN]} for entry in unknown]

    def trust(self, settings: Settings) -> _Trust:
        """Who may sign and what is revoked, by these settings; each file is read once."""
        paths = value_of_path(settings, "trustedusercakeys"), value_of_path(settings, "revokedkeys")
        if paths not in self._trusts:
            self._trusts[paths] = self._read_trust(*paths)
        return self._trusts[paths]

    def _read_trust(self, signers: str, revoked: str) -> _Trust:
        is_known, trusted = self.server is not None, frozenset[str]()
        if signers:
            data = self.files.bytes_of(signers)
            if data is None:
                is_known = False
                self.files.remark(
                    f"{self.files.shown(signers)} is not there: whose certificates are taken is unknown"
                )
            else:
                trusted = frozenset(read_key_list(self.files, signers, data, "signing key"))
        gone = read_revoked(self.files, revoked) if revoked else None
        if revoked and gone is None:
            self.files.remark(f"{self.files.shown(revoked)} is not there: which keys are revoked is unknown")
        return _Trust(gone, trusted, is_known)

    def last_use(self, entry: PasswdEntry, print_: str) -> datetime | None:
        """When the sign-in log last saw a key."""
        return self.logged.key_used.get((entry.name, print_)) if self.logged else None


class _AccountKeys:
    """The keys and certificates of one account, through each door that may be its own."""

    def __init__(self, reader: KeyReader, entry: PasswdEntry) -> None:
        self.reader = reader
        self.files = reader.files
        self.entry = entry
        self.home = entry.home.rstrip("/")
        self.doors = reader.doors_of(entry)
        looked_in = [self._places(door) for door in self.doors]
        self.places = list(dict.fromkeys(place for places in looked_in for place in places))
        self.doors_to = {
            place: [door for door, places in zip(self.doors, looked_in, strict=True) if place in places]
            for place in self.places
            if self.files.is_there(place) and self._is_guarded(place)
        }
        """Through which doors the keys of a file are taken; none through a file that others can write."""
        self.is_whole = all(map(self._is_settled, self.places)) and not any(
            map(self._asks_command, self.doors)
        )

    def rows(self) -> Iterator[dict[str, Any]]:
        """A row for each."""
        signers: dict[str, tuple[str, ...] | None] = {}
        for place in self.places:
            for number, line in text_lines(self.files.bytes_of(place) or b""):
                if not line.strip(" \t\r") or line.lstrip(" \t").startswith("#"):
                    continue
                try:
                    key = parse_line(line, self.reader.zone)
                except RefusedLineError as refused:
                    self.files.refuse("key", place, number, str(refused))
                    continue
                if key.signs and place in self.doors_to:
                    signers[key.key.fingerprint] = key.principals
                yield self._key_row(place, key)
        folder = f"{self.home}/.ssh"
        for name in self.files.names(folder):
            if name.endswith(_ENDING):
                row = self._certificate_row(f"{folder}/{name}", signers)
                if row is not None:
                    yield row

    # where keys are

    def _places(self, door: Door) -> list[str]:
        """The files sshd looks in."""
        return [self._expanded(pattern) for pattern in words_of(door.settings, "authorizedkeysfile")]

    def _asks_command(self, door: Door) -> bool:
        """Whether a command gives the server keys as well."""
        command = words_of(door.settings, "authorizedkeyscommand")
        if command:
            self.files.remark(f"{self.files.folder}: keys also come from the command {command[0]}: unknown")
        return bool(command)

    def _is_settled(self, place: str) -> bool:
        """Whether it is known what stands in a file of keys: what was not brought along is not none.

        A home that is there came along whole; so did a folder elsewhere that holds nothing but keys.
        """
        if self.files.is_there(place):
            return place not in self.files.unread
        if self.files.is_none(place) or self.files.collected.is_there:
            return self.files.is_none(place)
        if self.home and place.startswith(f"{self.home}/"):
            return self.files.is_folder(self.home)
        return self.files.is_folder(place.rpartition("/")[0])

    def _is_guarded(self, place: str) -> bool:
        server = self.reader.server or SshServer()
        return server.value("strictmodes") == "no" or self.files.is_guarded(place, self.entry.uid, self.home)

    def _expanded(self, pattern: str) -> str:
        """A path with sshd's signs filled in, from the account's home if it is not a whole one."""
        entry = self.entry
        text = pattern.replace("%%", "\0").replace("%h", entry.home).replace("%u", entry.name)
        text = text.replace("%U", str(entry.uid)).replace("\0", "%")
        return text if text.startswith("/") else f"{self.home}/{text}"

    # what they are

    def _key_row(self, place: str, key: AuthorizedKey) -> dict[str, Any]:
        print_, doors = key.key.fingerprint, self.doors_to.get(place, ())
        states = [self._key_state(key, door, is_open=door in doors) for door in self.doors]
        return {
            "account": self.entry.name,
            "key": print_,
            "kind": "ssh-key",
            "starts": None,
            "expires": key.expires,
            "last-used": self.reader.last_use(self.entry, print_),
            "state": _best(states),
            "algorithm": key.key.algorithm,
            "bits": key.key.bits,
            "digest": print_,
            "scope": key.scope or None,
            "label": key.comment or None,
            "stands-at": place,
        }

    def _key_state(self, key: AuthorizedKey, door: Door, *, is_open: bool) -> str:
        """Whether the server takes a line of a file; of a signing key, what it signs is looked at."""
        gone = self.reader.trust(door.settings).revoked
        if gone is not None and key.key.fingerprint in gone.keys:
            return "revoked"
        kind = key.key
        taken = key.signs or door.takes(
            kind.algorithm, kind.bits, is_certificate=False, is_limited=key.is_limited
        )
        return "active" if taken and is_open else "inactive"

    def _certificate_row(
        self, path: str, signers: dict[str, tuple[str, ...] | None]
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
            "account": self.entry.name,
            "key": f"{certificate.key.fingerprint} serial {certificate.serial}",
            "kind": "ssh-certificate",
            "starts": certificate.starts,
            "expires": certificate.ends,
            "last-used": None,
            "state": _best([self._certificate_state(certificate, signers, door) for door in self.doors]),
            "algorithm": certificate.key.algorithm,
            "bits": certificate.key.bits,
            "digest": certificate.key.fingerprint,
            "scope": ", ".join((names, *certificate.limits)),
            "label": certificate.key_id or None,
        }

    def _certificate_state(
        self, certificate: Certificate, signers: dict[str, tuple[str, ...] | None], door: Door
    ) -> str | None:
        """Whether this host takes the certificate for this account."""
        trust = self.reader.trust(door.settings)
        if trust.revoked is not None and trust.revoked.revokes(certificate):
            return "revoked"
        kind = certificate.key
        taken = door.takes(kind.algorithm, kind.bits, is_certificate=True, is_limited=certificate.is_limited)
        if not certificate.is_signed or not taken:
            return "inactive"
        if certificate.signer in signers:
            names = signers[certificate.signer]
            wanted = (self.entry.name,) if names is None else names
            # A bare signing key takes a certificate without names for anybody; one with names does not.
            fits = bool(set(wanted) & set(certificate.principals)) or (
                names is None and not certificate.principals
            )
            return "active" if fits else "inactive"
        if certificate.signer in trust.signers:
            return "active" if self._stands_for(door) & set(certificate.principals) else "inactive"
        return "inactive" if trust.is_known else None

    def _stands_for(self, door: Door) -> set[str]:
        """The names a certificate needs one of: the login name, or those of AuthorizedPrincipalsFile."""
        pattern = value_of_path(door.settings, "authorizedprincipalsfile")
        if not pattern:
            return {self.entry.name}
        place = self._expanded(pattern)
        lines = (line.strip() for _, line in text_lines(self.files.bytes_of(place) or b""))
        return {line.split()[-1] for line in lines if line and not line.startswith("#")}


def value_of_path(settings: Settings, keyword: str) -> str:
    """A path as it is written; empty where none is set."""
    return next(iter(words_of(settings, keyword)), "")


def _best(states: Sequence[str | None]) -> str | None:
    """What holds if any door may be the one: open through one of them is open."""
    for state in ("active", None, "inactive"):
        if state in states:
            return state
    return states[0] if states else "inactive"
