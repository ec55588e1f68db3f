"""`etc/pam.d`: which modules a service runs, with which arguments (pam.d(5))."""

from __future__ import annotations

import re
from dataclasses import dataclass, field

from keymallet.sources.host.files import HostFiles, Includes, text_lines

_TYPES = ("auth", "account", "password", "session")
_PIECE = re.compile(r"\[(?:\\.|[^\]\\])*\]|\S+")
SIGN_IN_SERVICES = ("sshd", "login")


@dataclass(frozen=True, slots=True)
class Module:
    """One line of a stack: which phase, how its answer counts, the module and its arguments."""

    phase: str
    control: str
    name: str
    arguments: tuple[str, ...]

    def value(self, option: str) -> str | None:
        """The value of `option=…`, the last one if there are several."""
        values = [
            argument.partition("=")[2] for argument in self.arguments if argument.startswith(option + "=")
        ]
        return values[-1] if values else None

    def has(self, option: str) -> bool:
        """Whether a bare option stands there."""
        return option in self.arguments


@dataclass
class Stacks:
    """The stacks of all services of a host."""

    files: HostFiles
    _includes: Includes = field(default_factory=Includes)
    _read: dict[str, list[Module]] = field(default_factory=dict)

    def modules(self, phase: str, name: str, services: tuple[str, ...] = SIGN_IN_SERVICES) -> list[Module]:
        """The lines of a module in one phase of these services, in order and each once."""
        lines = (line for service in services for line in self.service(service))
        return list(dict.fromkeys(entry for entry in lines if entry.phase == phase and entry.name == name))

    def service(self, name: str) -> list[Module]:
        """All lines of a service, those it includes among them; `other` where it has no file."""
        if name not in self._read:
            there = self.files.is_there(f"etc/pam.d/{name}")
            self._read[name] = self._file(name if there else "other")
        return self._read[name]

    def _file(self, name: str, only: str = "") -> list[Module]:
        path = name if name.startswith("/") else f"etc/pam.d/{name}"
        with self._includes.entered(path) as fine:
            return self._lines(path, only) if fine else []

    def _lines(self, path: str, only: str) -> list[Module]:
        lines: list[Module] = []
        for number, line in _joined(self.files.bytes_of(path) or b""):
            pieces = _PIECE.findall(line)
            if pieces[0] == "@include" and len(pieces) > 1:
                lines += self._file(pieces[1], only)
                continue
            phase = pieces[0].lstrip("-").lower()
            if phase not in _TYPES or len(pieces) < 3:
                self.files.remark(f"{self.files.shown(path)} line {number}: not understood, passed over")
                continue
            if only and phase != only:
                continue
            if pieces[1] in ("include", "substack"):
                lines += self._file(pieces[2], phase)
                continue
            module = pieces[2].rpartition("/")[2].removesuffix(".so")
            arguments = tuple(piece.strip("[]") for piece in pieces[3:])
            lines.append(Module(phase, pieces[1], module, arguments))
        return lines


def read_stacks(files: HostFiles) -> Stacks | None:
    """The stacks of a host; None where `etc/pam.d` is not there."""
    return Stacks(files) if files.is_folder("etc/pam.d") else None


def _joined(data: bytes) -> list[tuple[int, str]]:
    """Lines without comments; a backslash at the end goes on with the next line."""
    modules: list[tuple[int, str]] = []
    begun, first = "", 0
    for number, line in text_lines(data):
        text = line.partition("#")[0].strip()
        first = first or number
        if text.endswith("\\"):
            begun += text[:-1] + " "
            continue
        if (begun + text).strip():
            modules.append((first, begun + text))
        begun, first = "", 0
    if begun.strip():
        modules.append((first, begun))
    return modules
