"""`etc/sudoers` and what it includes, read as sudo reads it: a bad line is skipped, the rest counts.

The grammar is that of sudoers(5). What is kept is what tells who may become whom: user
specifications with their hosts, run-as users, tags and times, aliases, and the defaults that bear on
whether a password is asked. Times without a zone are the host's local time.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime, timedelta
from zoneinfo import ZoneInfo

from keymallet.core.base.secrecy import quoted
from keymallet.sources.host.files import HostFiles, Includes
from keymallet.sources.host.sudo_scan import ALIAS_NAME, INCLUDE, BadLineError, Member, Scan, joined_lines

_ALIAS = re.compile(r"(User|Runas|Host|Cmnd|Cmd)_Alias\b")
_TAGS = frozenset(
    "EXEC NOEXEC FOLLOW NOFOLLOW LOG_INPUT NOLOG_INPUT LOG_OUTPUT NOLOG_OUTPUT MAIL NOMAIL INTERCEPT"
    " NOINTERCEPT PASSWD NOPASSWD SETENV NOSETENV".split()
)
_TAG = re.compile(r"([A-Z_]+)[ \t]*:")
_OPTION = re.compile(
    r"(ROLE|TYPE|PRIVS|LIMITPRIVS|APPARMOR_PROFILE|CWD|CHROOT|TIMEOUT|NOTBEFORE|NOTAFTER)[ \t]*=[ \t]*"
)
_TIME = re.compile(r"(\d{4})(\d\d)(\d\d)(\d\d)(\d\d)?(\d\d)?(?:[.,]\d+)?(Z|[+-]\d\d(?:\d\d)?)?")
_PARAMETER = re.compile(r'(?:(?<!!)(!++)\s*+)?([a-z_0-9]++)(?:\s*+[-+]?=\s*+("(?:[^"\\]|\\.)*+"|[^,\s]*+))?')


@dataclass(frozen=True, slots=True)
class Command:
    """One command of a rule, with everything that holds for it. `runas` None: as the usual user, root."""

    text: str
    negated: bool
    runas: tuple[Member, ...] | None
    runas_groups: tuple[Member, ...]
    asks_password: bool | None
    starts: datetime | None
    last: datetime | None


@dataclass(frozen=True, slots=True)
class Rule:
    """Who, on which hosts, may run what; with the file and line it stands on."""

    users: tuple[Member, ...]
    hosts: tuple[Member, ...]
    commands: tuple[Command, ...]
    path: str
    line: int


@dataclass(frozen=True, slots=True)
class Default:
    """A `Defaults` line: for whom, and what it sets: whether a password is asked, who the usual user is."""

    scope: str
    members: tuple[Member, ...]
    asks_password: bool | None = None
    usual_user: str | None = None


@dataclass
class Sudoers:
    """The whole policy, in the order in which it counts: the last rule that fits wins."""

    rules: list[Rule] = field(default_factory=list)
    aliases: dict[str, dict[str, tuple[Member, ...]]] = field(
        default_factory=lambda: {"User": {}, "Runas": {}, "Host": {}, "Cmnd": {}}
    )
    defaults: list[Default] = field(default_factory=list)
    exempt_groups: set[str] = field(default_factory=set)
    skipped: int = 0


def read_sudoers(files: HostFiles, zone: str, host: str) -> Sudoers | None:
    """Read `etc/sudoers`; None where it is not there. Lines sudo skips are refused with their number."""
    if files.bytes_of("etc/sudoers") is None:
        return None
    return _Reader(files, ZoneInfo(zone), host).read()


@dataclass
class _Reader:
    files: HostFiles
    zone: ZoneInfo
    host: str
    result: Sudoers = field(default_factory=Sudoers)
    includes: Includes = field(default_factory=Includes)

    def read(self) -> Sudoers:
        self._file("etc/sudoers")
        return self.result

    def _file(self, path: str) -> None:
        with self.includes.entered(path) as fine:
            if not fine:
                raise BadLineError("includes go round in a circle, or have no end")
            self._lines(path)

    def _lines(self, path: str) -> None:
        data = self.files.bytes_of(path)
        if data is None:
            self.files.remark(f"{self.files.shown(path)}: included, but not there")
            return
        for number, text in joined_lines(data):
            include = INCLUDE.fullmatch(text.strip())
            try:
                if include:
                    self._include(path, include[2].strip(), folder=bool(include[1]))
                else:
                    self._line(path, number, text)
            except BadLineError as bad:
                self.result.skipped += 1
                self.files.refuse("grant", path, number, f"{bad}: sudo skips the line")

    def _include(self, path: str, target: str, *, folder: bool) -> None:
        target = _unquoted(target).replace("%h", self.host.partition(".")[0])
        place = target if target.startswith("/") else f"{path.rpartition('/')[0]}/{target}"
        if not folder:
            self._file(place)
            return
        for name in self.files.names(place):
            if "." not in name and not name.endswith("~"):
                self._file(f"{place}/{name}")

    def _line(self, path: str, number: int, text: str) -> None:
        scan = Scan(text)
        scan.blanks()
        if scan.ended:
            return
        alias = _ALIAS.match(scan.text, scan.place)
        if alias:
            scan.place = alias.end()
            self._aliases("Cmnd" if alias[1] == "Cmd" else alias[1], scan)
        elif scan.text.startswith("Defaults", scan.place):
            scan.place += len("Defaults")
            self._defaults(scan)
        else:
            self.result.rules += self._rules(scan, path, number)

    def _aliases(self, kind: str, scan: Scan) -> None:
        aliases: dict[str, tuple[Member, ...]] = {}
        while True:
            scan.blanks()
            match = ALIAS_NAME.match(scan.text, scan.place)
            if not match:
                raise BadLineError("an alias has a name in capitals")
            scan.place = match.end()
            scan.expect("=")
            members = scan.members(commands=kind == "Cmnd", hosts=kind == "Host")
            if match[0] in self.result.aliases[kind] or match[0] in aliases or match[0] == "ALL":
                raise BadLineError(f"the alias {match[0]} is defined already")
            aliases[match[0]] = members
            if not scan.take(":"):
                break
        scan.end()
        self.result.aliases[kind] |= aliases

    def _defaults(self, scan: Scan) -> None:
        scope = scan.text[scan.place] if scan.place < len(scan.text) else ""
        members: tuple[Member, ...] = ()
        if scope in "@:!>" and scope:
            scan.place += 1
            members = scan.members(commands=scope == "!", hosts=scope == "@")
        elif scope not in (" ", "\t", ""):
            raise BadLineError("Defaults is followed by a blank, or by one of @ : ! >")
        rest = scan.text[scan.place :]
        for negations, name, value in _PARAMETER.findall(rest):
            off = len(negations) % 2 == 1
            if name == "authenticate":
                self.result.defaults.append(Default(scope.strip(), members, not off))
            if name == "runas_default" and value and not off:
                self.result.defaults.append(Default(scope.strip(), members, usual_user=_unquoted(value)))
            if name == "exempt_group" and value and not off:
                self.result.exempt_groups.add(_unquoted(value))

    def _rules(self, scan: Scan, path: str, number: int) -> list[Rule]:
        users = scan.members()
        rules = []
        while True:
            hosts = scan.members(hosts=True)
            scan.expect("=")
            rules.append(Rule(users, hosts, tuple(self._commands(scan)), path, number))
            if not scan.take(":"):
                break
        scan.end()
        return rules

    def _commands(self, scan: Scan) -> Iterator[Command]:
        held = Command("", False, None, (), None, None, None)
        while True:
            scan.blanks()
            if scan.take("("):
                held = self._runas(scan, held)
            held = self._options(scan, held)
            held = self._tags(scan, held)
            text, negated = scan.command()
            yield replace(held, text=text, negated=negated)
            if not scan.take(","):
                return

    def _runas(self, scan: Scan, held: Command) -> Command:
        scan.blanks()
        users: tuple[Member, ...] = ()
        groups: tuple[Member, ...] = ()
        if not scan.looking_at(":", ")"):
            users = scan.members()
        if scan.take(":"):
            scan.blanks()
            groups = () if scan.looking_at(")") else scan.members()
        scan.expect(")")
        # `(:group)` and `()` are as oneself: no power over another user.
        return replace(held, runas=users, runas_groups=groups)

    def _options(self, scan: Scan, held: Command) -> Command:
        while True:
            scan.blanks()
            match = _OPTION.match(scan.text, scan.place)
            if not match:
                return held
            scan.place = match.end()
            value = scan.option_value()
            if match[1] == "NOTBEFORE":
                held = replace(held, starts=self._instant(value))
            elif match[1] == "NOTAFTER":
                held = replace(held, last=self._instant(value))

    def _tags(self, scan: Scan, held: Command) -> Command:
        while True:
            scan.blanks()
            match = _TAG.match(scan.text, scan.place)
            if not match or match[1] not in _TAGS:
                return held
            scan.place = match.end()
            if match[1] in ("PASSWD", "NOPASSWD"):
                held = replace(held, asks_password=match[1] == "PASSWD")

    def _instant(self, text: str) -> datetime:
        match = _TIME.fullmatch(text)
        if not match:
            raise BadLineError(
                f"{quoted(text)} is no time: it is written yyyymmddHHMMSSZ, at least to the hour"
            )
        numbers = [int(part or 0) for part in match.groups()[:6]]
        try:
            plain = datetime(*numbers)  # type: ignore[arg-type]
            if match[7] is None:
                return plain.replace(tzinfo=self.zone).astimezone(UTC)
            return plain.replace(tzinfo=UTC) - _offset(match[7])
        except (ValueError, OverflowError):
            raise BadLineError(f"there is no such time as {quoted(text)}") from None


def _offset(text: str) -> timedelta:
    if text == "Z":
        return timedelta()
    size = timedelta(hours=int(text[1:3]), minutes=int(text[3:5] or 0))
    return size if text[0] == "+" else -size


def _unquoted(text: str) -> str:
    if len(text) > 1 and text[0] == text[-1] == '"':
        text = text[1:-1]
    return re.sub(r"\\(.)", r"\1", text)
