"""Lines of passwd, shadow and group as the C library reads them.

A line that the C library drops names an account that nobody can sign in to: it is refused here,
with the reason. The rules were measured with `getent` on two releases (glibc 2.36 and 2.41).
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass

from keymallet.core.base.secrecy import quoted
from keymallet.sources.shared.ageing import ShadowEntry, opens_a_session

_NUMBER = re.compile(r"[ \t]*(?:\+?(\d+)|-(0+))", re.ASCII)
_MOST = 2_147_483_647
_NOBODY_SET = 4_294_967_295  # what the C library takes for an empty number in shadow
_BASE64 = "[./0-9A-Za-z]"
_SCHEMES = tuple(
    (begins, re.compile(rest), scheme)
    for begins, rest, scheme in (
        (r"\$g?y\$", rf"{_BASE64}+\${_BASE64}{{0,86}}\${_BASE64}{{43}}", "yescrypt"),
        (r"\$7\$", rf"{_BASE64}{{11}}[^$]*\${_BASE64}{{43}}", "scrypt"),
        (r"\$2[abxy]\$", rf"\d\d\${_BASE64}{{53}}", "bcrypt"),
        (r"\$6\$", rf"(?:rounds=\d+\$)?[^$]{{0,16}}\${_BASE64}{{86}}", "sha512"),
        (r"\$5\$", rf"(?:rounds=\d+\$)?[^$]{{0,16}}\${_BASE64}{{43}}", "sha256"),
        (r"\$sha1\$", rf"\d+\${_BASE64}{{0,64}}\${_BASE64}{{28}}", "pbkdf2"),
        (r"\$1\$", rf"[^$]{{0,8}}\${_BASE64}{{22}}", "md5"),
        (r"\$md5", rf"[,$].*\${_BASE64}{{22}}", "md5"),
        (r"\$3\$", r"\$[0-9a-f]{32}", "other"),
    )
)
_DES = re.compile(rf"{_BASE64}+", re.ASCII)
_BSDI = re.compile(rf"_{_BASE64}{{19}}", re.ASCII)
_BLANKS = " \t\r\v\f"
"""What the C library skips at the beginning of a line, and nothing else: no blank of any other script."""


class DroppedError(ValueError):
    """A line that the system itself does not take; the message says why."""


@dataclass(frozen=True, slots=True)
class Line:
    """One line that may be a record, with its number."""

    number: int
    text: str


@dataclass(frozen=True, slots=True)
class PasswdEntry:
    """An account of passwd."""

    name: str
    password: str
    uid: int
    gid: int
    display: str
    home: str
    shell: str

    @property
    def is_interactive(self) -> bool:
        """Whether its shell opens a session. An empty shell is /bin/sh."""
        return opens_a_session(self.shell)


@dataclass(frozen=True, slots=True)
class GroupEntry:
    """A group and its members."""

    name: str
    gid: int
    members: tuple[str, ...]


def records(data: bytes) -> Iterator[Line]:
    """The lines that are neither blank nor comments. Bytes that are not UTF-8 are read as Latin-1."""
    for number, raw in enumerate(data.split(b"\n"), start=1):
        try:
            text = raw.decode()
        except UnicodeDecodeError:
            text = raw.decode("latin-1")
        stripped = text.lstrip(_BLANKS)
        if stripped and not stripped.startswith("#"):
            yield Line(number, text)


def comment_count(data: bytes) -> int:
    """How many lines are comments."""
    return sum(raw.lstrip(_BLANKS.encode()).startswith(b"#") for raw in data.split(b"\n"))


def parse_passwd(text: str) -> PasswdEntry:
    """Read a line of passwd. Raises DroppedError."""
    text = text.lstrip(_BLANKS)
    if text[:1] in ("+", "-"):
        raise DroppedError("an entry for a network directory: no account of this host")
    fields = text.split(":", 6)
    if len(fields) < 4:
        raise DroppedError(f"{len(fields)} fields where at least 4 are needed: the system drops the line")
    fields += [""] * (7 - len(fields))
    name, password, uid, gid, gecos, home, shell = fields
    ids = _id(uid, "user id"), _id(gid, "group id")
    return PasswdEntry(name, password, *ids, gecos.split(",")[0], home, shell)


def parse_shadow(text: str) -> ShadowEntry:
    """Read a line of shadow. Raises DroppedError."""
    text = text.lstrip(_BLANKS)
    if text[:1] in ("+", "-"):
        raise DroppedError("an entry for a network directory: no account of this host")
    fields = text.split(":")
    if len(fields) == 8 and fields[7] != "":
        fields.append("")
    if len(fields) == 5 and fields[4] != "":
        fields += [""] * 4
    if len(fields) != 9:
        raise DroppedError(f"{len(fields)} fields where 9 are needed: the system drops the line")
    days = [_days(field, number) for number, field in enumerate(fields[2:], start=3)]
    return ShadowEntry(fields[0], fields[1], days[0], days[2], days[4], days[5])


def parse_group(text: str) -> GroupEntry:
    """Read a line of group. Raises DroppedError."""
    text = text.lstrip(_BLANKS)
    if text[:1] in ("+", "-"):
        raise DroppedError("an entry for a network directory: no group of this host")
    fields = text.rstrip("\r").split(":")
    if len(fields) not in (3, 4):
        raise DroppedError(f"{len(fields)} fields where 4 are needed: the system drops the line")
    members = fields[3].split(",") if len(fields) == 4 else []
    names = tuple(member.strip() for member in members if member.strip())
    return GroupEntry(fields[0], _id(fields[2], "group id"), names)


def _id(field: str, what: str) -> int:
    number = _number(field)
    if number is None:
        raise DroppedError(f"the {what}, {quoted(field, most=20)}, is no number: the system drops the line")
    return number


def _number(field: str) -> int | None:
    """A number as the C library takes it; None for one that costs the line. Of negative ones it knows -0."""
    match = _NUMBER.fullmatch(field)
    number = int(match[1] or 0) if match else _NOBODY_SET + 1
    return number if number <= _NOBODY_SET else None


def _days(field: str, number: int) -> int | None:
    if field == "":
        return None
    days = _number(field)
    if days is None:
        raise DroppedError(
            f"field {number}, {quoted(field, most=20)}, is no number: the system drops the line"
        )
    # Above 31 bits the C library's number turns negative; the largest of all is then -1, which is none.
    days = days - _NOBODY_SET - 1 if days > _MOST else days
    return None if days == -1 else days


def odd_passwd(text: str) -> str:
    """How the system reads a line of passwd that looks odd and counts all the same; empty if none is odd."""
    fields = text.split(":")
    complaint = []
    if text[:1] in _BLANKS:
        complaint.append("the blank before the name is left away")
    if len(fields) < 7:
        complaint.append("the fields that are missing are empty; an empty shell is /bin/sh")
    if len(fields) > 7:
        complaint.append("all behind the sixth colon is the shell")
    if text.endswith("\r"):
        complaint.append("the carriage return belongs to the shell, which does not exist")
    complaint += _odd_numbers(fields[2:4])
    if fields[0].strip(_BLANKS) == "":
        complaint.append("the name is empty")
    return "; ".join(complaint)


def odd_shadow(text: str) -> str:
    """The same for a line of shadow."""
    fields = text.split(":")
    complaint = [f"{len(fields)} fields are taken as the rest being empty"] if len(fields) < 9 else []
    complaint += _odd_numbers(fields[2:])
    if any(field.isdigit() and int(field) > _MOST for field in fields[2:] if len(field) < 12):
        complaint.append("a number of more than 31 bits counts as a negative one")
    return "; ".join(complaint)


def _odd_numbers(fields: list[str]) -> list[str]:
    odd = [
        (field, number) for field in fields if (number := _number(field)) is not None and field != str(number)
    ]
    return [f"{quoted(field, most=20)} is read as {number}" for field, number in odd]


def stored_form(password: str) -> tuple[bool | None, str | None]:
    """Whether some password matches what stands in a password field, and how it is hashed.

    No password matches `*`, `x` or a hash that was cut off; whether one matches a form that is not known
    here, or that only some systems have, is unknown. As libcrypt and pam_unix of two releases took them.
    """
    for begins, rest, scheme in _SCHEMES:
        if match := re.match(begins, password):
            fits = rest.fullmatch(password, match.end()) is not None
            return fits, scheme if fits else None
    if password.startswith("$argon2"):
        return None, "argon2"
    if re.match(r"\$[0-9A-Za-z-]+[$,]", password):
        return None, None
    if _BSDI.fullmatch(password):
        return None, "des"
    # Behind the hash, whatever is no part of one is cut off: ageing of other systems, blanks.
    valid = _DES.match(password)
    length = len(valid[0]) if valid else 0
    # Several blocks of eight characters were hashed one by one, 11 characters for each.
    fits = length >= 13 and (length - 2) % 11 == 0
    return fits, "des" if fits else None
