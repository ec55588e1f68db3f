"""The files of a host, as they stand below one folder.

Links are followed as the host itself would follow them: an absolute one starts at the host's own
root again, and none leads out of it, so that `etc/shadow -> /etc/shadow` never reads the machine
that Keymallet runs on. Only regular files are read.
"""

from __future__ import annotations

import os
import stat
from collections import deque
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from functools import cached_property
from pathlib import Path

from keymallet.core.base.problems import KeymalletError
from keymallet.core.facts.reading import Reading, Refusal
from keymallet.sources.host.collected import COLLECTED, Collected, plain, read_collected
from keymallet.sources.request import Request
from keymallet.sources.shared.limits import refuse_endless_lines

_MOST_LINKS = 40  # as the kernel bounds them
_EVERYWHERE = "/bin/sh"


@dataclass
class HostFiles:
    """What stands below a host's root. Paths are those of the host, with or without the leading slash.

    `unread` tells of files that are there and could not be read, why.
    """

    request: Request
    folder: str
    reading: Reading
    unread: dict[str, str] = field(default_factory=dict)
    _places: dict[str, str | None] = field(default_factory=dict)
    _root: str = field(init=False)
    collected: Collected = field(init=False)

    def __post_init__(self) -> None:
        self._root = str(self.root)
        self.collected = read_collected(self.bytes_of(COLLECTED))

    @property
    def root(self) -> Path:
        """The folder that is the host's root."""
        return self.request.folder / self.folder

    def shown(self, path: str) -> str:
        """The path as notes name it. Bytes of a name that are no UTF-8 are replaced."""
        whole = f"{self.folder}/{path.lstrip('/')}"
        return whole.encode("utf-8", "replace").decode()

    def place(self, path: str) -> Path | None:
        """Where a path of the host really stands; None if nothing is there."""
        location = self._found(path)
        return None if location is None else Path(location)

    def _found(self, path: str) -> str | None:
        """The same as text. What has been found is kept: the homes of a host share their parents."""
        if path in self._places:
            return self._places[path]
        parent, _, name = path.rstrip("/").rpartition("/")
        if name in ("", ".", ".."):
            location = self._followed(path)
        else:
            base = self._found(parent) if parent else self._root
            if parent in self.unread:
                self.unread.setdefault(path, self.unread[parent])
            location = None if base is None else f"{base}/{name}"
            try:
                if location is not None and stat.S_ISLNK(os.lstat(location).st_mode):
                    location = self._followed(path)
            except PermissionError as error:
                # Who may not look into a folder does not know what stands there.
                self._places[path] = location = None
                self._cannot(path, error.strerror or str(error))
            except (OSError, ValueError):
                location = None
        self._places[path] = location
        return location

    def _followed(self, path: str) -> str | None:
        if "\0" in path:
            return None
        waiting = deque(part for part in path.split("/") if part)
        here: list[str] = []  # the parts below the root, as far as they have been followed
        links = 0
        try:
            while waiting:
                part = waiting.popleft()
                if part in (".", ".."):
                    del here[len(here) - (part == "..") if here else 0 :]
                    continue
                here.append(part)
                step = "/".join((self._root, *here))
                if not stat.S_ISLNK(os.lstat(step).st_mode):
                    continue
                links += 1
                if links > _MOST_LINKS:
                    return None
                target = str(Path(step).readlink())
                here = [] if target.startswith("/") else here[:-1]
                waiting.extendleft(reversed([part for part in target.split("/") if part]))
        except (OSError, ValueError):
            return None
        return "/".join((self._root, *here))

    def is_there(self, path: str) -> bool:
        """Whether anything stands at the path."""
        return self._found(path) is not None

    @cached_property
    def is_whole(self) -> bool:
        """Whether this is the root of a whole system, not some files of one: what is not there is none."""
        folders = ("usr/bin", "usr/lib", "dev")
        return not self.collected.is_there and all(map(self.is_folder, folders))

    @cached_property
    def _of_passwd(self) -> os.stat_result | None:
        place = self.place("etc/passwd")
        return place.stat() if place is not None else None

    @property
    def has_owners(self) -> bool:
        """Whether the files have the owners that they had on the host: passwd is root's on every one."""
        return self._of_passwd is not None and self._of_passwd.st_uid == 0

    @property
    def has_modes(self) -> bool:
        """Whether the files have the modes that they had on the host: on none may others write passwd."""
        return self._of_passwd is not None and not self._of_passwd.st_mode & (stat.S_IWGRP | stat.S_IWOTH)

    def is_guarded(self, path: str, uid: int, home: str) -> bool:
        """Whether nobody but root and the account can change a file, or a folder above it up to its home.

        So sshd wants it (StrictModes in sshd_config(5)). Owners and modes are looked at only where they came
        along: a copy that lost them says nothing of who could write on the host.
        """
        if not self.has_modes:
            return True
        place, end = self._found(path), self._found(home or "/")
        while place is not None and place != self._root:
            status = Path(place).stat()
            owned = not self.has_owners or status.st_uid in (0, uid)
            if not owned or status.st_mode & (stat.S_IWGRP | stat.S_IWOTH):
                return False
            if place == end:
                break
            place = place.rpartition("/")[0]
        return True

    def runs(self, path: str) -> bool | None:
        """Whether a program can be run; None if it, or its mode, did not come along, which says nothing."""
        place = self.place(path)
        try:
            if place is not None:
                status = place.stat()
                can = stat.S_ISREG(status.st_mode) and bool(status.st_mode & 0o111)
                # In a copy that lost the modes nothing can be run, not even the shell that is on every host.
                return True if can else False if path != _EVERYWHERE and self.runs(_EVERYWHERE) else None
        except OSError:
            return False
        told = self.collected.shells.get(path)
        return told if told is not None else False if self.is_whole else None

    def is_none(self, path: str) -> bool:
        """Whether it is known that nothing stands at a path: it was looked for on the host, or all came."""
        return not self.is_there(path) and (plain(path) in self.collected.none or self.is_whole)

    def is_folder(self, path: str) -> bool:
        """Whether a folder stands at the path."""
        location = self._found(path)
        return location is not None and Path(location).is_dir()

    def names(self, path: str) -> list[str]:
        """The names in a folder, in order; none where there is no folder or it may not be read."""
        place = self.place(path)
        if place is None or not place.is_dir():
            return []
        try:
            return sorted(entry.name for entry in place.iterdir())
        except OSError as error:
            self._cannot(path, error.strerror or str(error))
            return []

    def bytes_of(self, path: str, *, in_lines: bool = True) -> bytes | None:
        """A file of the host; None if it is not there, is no file, or may not be read (remarked)."""
        place = self.place(path)
        if place is None:
            return None
        try:
            if not stat.S_ISREG(place.stat().st_mode):
                self._cannot(path, "it is no file")
                return None
            data = self.request.bytes_of(self.shown(path), self.reading, place)
            if in_lines:
                refuse_endless_lines(data, self.shown(path))
            return data
        except KeymalletError as error:
            self._cannot(path, error.problems[0].message.partition(": ")[2] or error.problems[0].message)
        except OSError as error:
            self._cannot(path, error.strerror or str(error))
        return None

    def records_at(self, path: str, size: int, numbers: Iterable[int]) -> dict[int, bytes] | None:
        """Records of a fixed size by their numbers, without reading what lies between; None if not there.

        Such a file can be sparse, and far larger than any memory. A record beyond its end is left out.
        """
        place = self.place(path)
        if place is None:
            return None
        records: dict[int, bytes] = {}
        try:
            if not stat.S_ISREG(place.stat().st_mode):
                self._cannot(path, "it is no file")
                return None
            with place.open("rb") as file:
                for number in sorted(set(numbers)):
                    file.seek(number * size)
                    record = file.read(size)
                    if len(record) == size:
                        records[number] = record
        except OSError as error:
            self._cannot(path, error.strerror or str(error))
            return None
        self.request.note_part(self.shown(path), self.reading, b"".join(records.values()))
        return records

    def _cannot(self, path: str, why: str) -> None:
        if path not in self.unread:
            self.unread[path] = why
            self.remark(f"{self.shown(path)} cannot be read: {why}; what it would tell is unknown")

    def remark(self, text: str) -> None:
        """Note something about the host."""
        if text not in self.reading.remarks:
            self.reading.remarks.append(text)

    def refuse(self, table: str, path: str, line: int, reason: str) -> None:
        """Count a record that is left out."""
        self.reading.table_intake(table).refuse(Refusal(self.shown(path), line, reason))


@dataclass
class Includes:
    """Bounds files that include files: none within itself, and not more than there could be any use for."""

    most: int = 1_000
    _open: list[str] = field(default_factory=list)
    _count: int = 0

    @contextmanager
    def entered(self, path: str) -> Iterator[bool]:
        """Whether the file is to be read; False if that would go round in a circle or has no end."""
        self._count += 1
        fine = path not in self._open and self._count <= self.most
        self._open.append(path)
        try:
            yield fine
        finally:
            self._open.pop()


def text_lines(data: bytes) -> Iterator[tuple[int, str]]:
    """The lines of a text file with their numbers. Bytes that are not UTF-8 are read as Latin-1."""
    for number, raw in enumerate(data.split(b"\n"), start=1):
        try:
            yield number, raw.decode()
        except UnicodeDecodeError:
            yield number, raw.decode("latin-1")
