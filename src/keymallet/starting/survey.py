"""What lies in a folder: for each file or folder, what it is taken for, or why it is of no use."""

from __future__ import annotations

import os
import re
import tarfile
from collections.abc import Iterator
from dataclasses import dataclass, field
from datetime import date
from pathlib import Path

from keymallet.core.base.problems import KeymalletError
from keymallet.fitting.guess import Guess, guess
from keymallet.fitting.matching import Asked
from keymallet.fitting.sample import Export, look_into
from keymallet.fitting.shapes import Shape

EXPORT, LISTING, HOSTS, ARCHIVE, LDIF, USELESS = (
    "export",
    "listing",
    "hosts",
    "archive",
    "ldif",
    "of no use",
)
_MOST_FILES = 2_000
_FIRST_USER = 1_000
"""Numbers of users below this are the system's own."""
_CONTROLS = bytes(range(1, 9)) + bytes(range(14, 27))
_DEEPEST = 3
_OURS = {"snapshots", "logbook", "__pycache__"}
_ARCHIVES = (".tar", ".tar.gz", ".tgz", ".tar.xz", ".tar.bz2")
_BINARY = {
    b"PK\x03\x04": "a workbook or an archive: save its sheets as CSV",
    b"%PDF": "a PDF: ask for the export itself",
    b"SQLite": "a database file: export its accounts as CSV",
    b"\xd0\xcf\x11\xe0": "an old workbook: save it as CSV",
}
_LDIF = re.compile(rb"(?:#[^\n]*\n|version: ?\d+\s*\n|\s*\n)*dn::? ", re.IGNORECASE)
_LOGIN = re.compile(r"[\w@][\w.@$-]{0,63}")
_LIKE_A_PASSWORD = re.compile(r"(?=.*[a-z])(?=.*[A-Z])(?=.*\d)|[!#%&*?+=^~]|\$\S")
_NOT_OURS = "nothing in it looks like accounts, people, keys, roles or sign-ins"


@dataclass
class Found:
    """A file or folder: its path from the folder that is looked at, what it is taken for, and why not.

    Of hosts, `logins` are those of people and services; `changed` is when the file was last written.
    """

    path: str
    kind: str
    why: str = ""
    guess: Guess | None = None
    hosts: list[str] = field(default_factory=list)
    logins: list[str] = field(default_factory=list)
    changed: float = 0.0


def survey(folder: Path, today: date) -> list[Found]:
    """Look at everything in a folder, in the order of its paths; folders of hosts are one thing each."""
    return [found for path in _worth_looking_at(folder) for found in [_look_at(path, folder, today)] if found]


def _worth_looking_at(folder: Path, depth: int = 0) -> Iterator[Path]:
    """Files, and folders that are a host's root or hold such; hidden ones and our own are passed over."""
    seen = 0
    for entry in sorted(folder.iterdir()):
        if entry.name.startswith(".") or entry.name in _OURS or (entry.is_symlink() and entry.is_dir()):
            continue
        seen += 1
        if seen > _MOST_FILES:
            return
        if entry.is_dir():
            if not _may_be_read(entry) or _hosts_in(entry):
                yield entry
            elif depth < _DEEPEST:
                yield from _worth_looking_at(entry, depth + 1)
        elif entry.suffix != ".toml":
            yield entry


def _may_be_read(folder: Path) -> bool:
    return os.access(folder, os.R_OK | os.X_OK)


def _is_host(folder: Path) -> bool:
    return (folder / "etc" / "passwd").is_file()


def _hosts_in(folder: Path) -> list[str]:
    """The hosts that a folder is or holds, by their names."""
    if _is_host(folder):
        return [folder.name]
    return sorted(entry.name for entry in folder.iterdir() if entry.is_dir() and _is_host(entry))


def _look_at(path: Path, folder: Path, today: date) -> Found | None:
    shown = path.relative_to(folder).as_posix()
    if path.is_dir():
        if not _may_be_read(path):
            return Found(shown, USELESS, "a folder that cannot be read")
        hosts = _hosts_in(path)
        roots = [path] if _is_host(path) else [path / host for host in hosts]
        logins = [login for root in roots for login in _logins((root / "etc" / "passwd").read_bytes())]
        return Found(shown, HOSTS, hosts=hosts, logins=logins)
    if path.name.lower().endswith(_ARCHIVES):
        return _archive(path, shown)
    if not path.is_file():
        return Found(shown, USELESS, "no file: a pipe or a device")
    try:
        with path.open("rb") as stream:
            beginning = stream.read(4_096)
    except OSError as error:
        return Found(shown, USELESS, f"it cannot be read: {error.strerror or error}")
    for mark, what in _BINARY.items():
        if beginning.startswith(mark):
            return Found(shown, USELESS, what)
    if len(beginning.translate(None, _CONTROLS)) < 0.95 * len(beginning):
        return Found(shown, USELESS, "no text: a program's own file")
    if path.suffix.lower() == ".ldif" or _LDIF.match(beginning.removeprefix(b"\xef\xbb\xbf")):
        return Found(shown, LDIF)
    if path.suffix.lower() in (".md", ".html", ".htm", ".log", ".sh", ".py"):
        return None
    return look_at_export(path, shown, today)


def _archive(path: Path, shown: str) -> Found:
    """An archive of a host's files, as the collect script packs them."""
    try:
        with tarfile.open(path) as archive:
            members = {member.name.removeprefix("./"): member for member in archive}
            member = members.get("etc/passwd")
            stream = archive.extractfile(member) if member else None
            passwd = stream.read() if stream else b""
    except (tarfile.TarError, OSError, EOFError) as error:
        return Found(shown, USELESS, f"no archive that can be opened: {error}")
    if not passwd:
        return Found(shown, USELESS, "an archive without etc/passwd: no host's files")
    return Found(shown, ARCHIVE, hosts=[host_name(path.name)], logins=_logins(passwd))


def _logins(passwd: bytes) -> list[str]:
    """The names of those accounts that are not the system's own."""
    fields = [line.split(":") for line in passwd.decode("utf-8", "replace").splitlines()]
    return [
        each[0] for each in fields if len(each) > 2 and each[2].isdecimal() and int(each[2]) >= _FIRST_USER
    ]


def host_name(file: str) -> str:
    """The name of the host whose archive it is: the file's, without its endings."""
    ending = next((ending for ending in _ARCHIVES if file.lower().endswith(ending)), "")
    return file[: len(file) - len(ending)]


def look_at_export(path: Path, shown: str, today: date) -> Found:
    """A file that may be an export, with the guess at its columns."""
    try:
        export = look_into(path, shown)
    except KeymalletError as error:
        return Found(shown, USELESS, error.problems[0].message)
    if len(export.sample.columns) == 1 and not Shape(export.sample.columns[0]).mails:
        return _one_column(export, shown)
    found = guess(export, today, Asked())
    if found is None:
        return Found(shown, USELESS, _NOT_OURS)
    return Found(shown, EXPORT, guess=found, changed=path.stat().st_mtime)


def _one_column(export: Export, shown: str) -> Found:
    """A list of something, without a header: names of accounts, or what nobody should have in a list."""
    (column,) = export.sample.columns
    values = [column.header, *column.values]
    if sum(bool(_LIKE_A_PASSWORD.search(value)) for value in values) > 0.2 * len(values):
        return Found(shown, USELESS, "one column of what may be passwords: it should not lie here")
    if all(_LOGIN.fullmatch(value) for value in values):
        return Found(shown, LISTING)
    return Found(shown, USELESS, _NOT_OURS)
