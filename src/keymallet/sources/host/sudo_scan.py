"""One logical line of sudoers, read from left to right by the grammar of sudoers(5)."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass

from keymallet.core.base.listing import shortened
from keymallet.sources.host.files import text_lines

INCLUDE = re.compile(r"(?:#|@)include(dir)?[ \t]+(.*)")
ALIAS_NAME = re.compile(r"[A-Z][A-Z0-9_]*")
_DIGEST = re.compile(r"sha(?:224|256|384|512)[ \t]*:[ \t]*[A-Za-z0-9+/=]+[ \t]*(?:,[ \t]*(?=sha))?")
_ID = re.compile(r"#-?\d+(?=[\s,=:)!]|$)")
_WORD_END = ' \t,=:()!"#'
_ADDRESS = re.compile(r"(?:\d{1,3}(?:\.\d{1,3}){3}|[0-9A-Fa-f]*:[0-9A-Fa-f:.]+)(?:/[0-9A-Fa-f.:]+)?")


class BadLineError(ValueError):
    """A line that sudo skips; the message says why."""


@dataclass(frozen=True, slots=True)
class Member:
    """One name of a list, such as `alice`, `%wheel`, `#1000`, an alias, `ALL`; perhaps with a `!`."""

    word: str
    negated: bool = False


@dataclass
class Scan:
    """A place in a logical line, and the pieces that can be read from there.

    Whatever does not fit raises BadLineError.
    """

    text: str
    place: int = 0

    @property
    def ended(self) -> bool:
        """Whether the line is at its end."""
        return self.place >= len(self.text)

    def blanks(self) -> None:
        """Go on to the next character that is no blank."""
        while not self.ended and self.text[self.place] in " \t":
            self.place += 1

    def looking_at(self, *signs: str) -> bool:
        """Whether one of these signs comes next."""
        self.blanks()
        return not self.ended and self.text[self.place] in signs

    def take(self, sign: str) -> bool:
        """Pass over a sign, if it comes next."""
        token = self.looking_at(sign)
        self.place += token
        return token

    def expect(self, sign: str) -> None:
        """Pass over a sign that has to come next."""
        if not self.take(sign):
            raise BadLineError(f'"{sign}" is missing {self._where(self.place)}')

    def _where(self, place: int) -> str:
        """In which line, and before what of it."""
        rest = f"before '{shortened(self.text[place:], 12)}'" if self.text[place:] else "at the end"
        return f"in '{shortened(self.text.strip())}', {rest}"

    def end(self) -> None:
        """Hold that the line ends here. Raises BadLineError with what stands there instead."""
        self.blanks()
        if not self.ended:
            raise BadLineError(f"'{shortened(self.text[self.place :], 12)}' is not understood")

    def members(self, *, commands: bool = False, hosts: bool = False) -> tuple[Member, ...]:
        """Names, or commands, with commas between them."""
        read: Callable[[], Member] = self._command_member if commands else lambda: self._member(hosts)
        members = [read()]
        while self.take(","):
            members.append(read())
        return tuple(members)

    def _negations(self) -> bool:
        negated = False
        while self.take("!"):
            negated = not negated
        self.blanks()
        return negated

    def _member(self, hosts: bool) -> Member:
        negated = self._negations()
        word = self._address() if hosts else ""
        return Member(word or self._word(), negated)

    def _command_member(self) -> Member:
        text, negated = self.command()
        return Member(text, negated)

    def _address(self) -> str:
        match = _ADDRESS.match(self.text, self.place)
        if not match or (match.end() < len(self.text) and self.text[match.end()] not in _WORD_END):
            return ""
        self.place = match.end()
        return match[0]

    def _word(self) -> str:
        """A name: quoted, or up to a blank or a sign; a backslash keeps the next character."""
        start = self.place
        lead = re.compile(r"%?:?#?").match(self.text, start)
        assert lead is not None
        self.place = lead.end()
        sign = lead[0]
        if not self.ended and self.text[self.place] == '"':
            close = re.compile(r'"((?:[^"\\]|\\.)*)"').match(self.text, self.place)
            if not close or not close[1]:
                raise BadLineError("a quote is not closed")
            self.place = close.end()
            return sign + re.sub(r"\\(.)", r"\1", close[1])
        while not self.ended and self.text[self.place] not in _WORD_END:
            if self.text[self.place] == "\\":
                self.place += 1
                if self.ended:
                    break
            sign += self.text[self.place]
            self.place += 1
        if not sign.strip("%:#"):
            raise BadLineError(f"a name is missing {self._where(start)}")
        return sign

    def option_value(self) -> str:
        """The value of an option: quoted, or up to a blank or comma."""
        match = re.compile(r'"((?:[^"\\]|\\.)*)"|([^\s,"]+)').match(self.text, self.place)
        if not match:
            raise BadLineError("an option without its value")
        self.place = match.end()
        return match[1] if match[1] is not None else match[2]

    def command(self) -> tuple[str, bool]:
        """A command with its arguments, an alias, or ALL; and whether it is forbidden instead."""
        negated = self._negations()
        while digest := _DIGEST.match(self.text, self.place):
            self.place = digest.end()
        if self.text.startswith("^", self.place):
            match = re.compile(r"\^(?:\\.|[^\\])*?\$(?=[ \t]*(?:[,:=]|$)| )").match(self.text, self.place)
            if not match:
                raise BadLineError("a regular expression begins with ^ and ends with $")
            self.place = match.end()
            return match[0] + self._arguments(), negated
        match = ALIAS_NAME.match(self.text, self.place)
        if match and (match.end() == len(self.text) or self.text[match.end()] in " \t,:="):
            self.place = match.end()
            return match[0], negated
        start = self.place
        path = self._arguments()
        if not path.startswith(("/", "sudoedit", "list", "~", "*")):
            there = self.text[start : start + 20] or "the end of the line"
            raise BadLineError(f"{there}: a command begins with its whole path")
        return path, negated

    def _arguments(self) -> str:
        """Up to an unescaped comma, colon, equals sign or hash."""
        sign = ""
        while not self.ended and self.text[self.place] not in ",:=#":
            if self.text[self.place] == "\\" and self.place + 1 < len(self.text):
                following = self.text[self.place + 1]
                sign += following if following in ",:= \t#\\" else "\\" + following
                self.place += 2
                continue
            sign += self.text[self.place]
            self.place += 1
        return sign.strip()


def joined_lines(data: bytes) -> list[tuple[int, str]]:
    """Logical lines with the number they begin on: comments away, lines that end in `\\` joined."""
    lines: list[tuple[int, str]] = []
    begun, first = "", 0
    for number, line in text_lines(data):
        text = line.removesuffix("\r")
        first = first or number
        if text.endswith("\\") and not text.endswith("\\\\"):
            begun += text[:-1]
            continue
        whole = _without_comment(begun + text)
        if whole.strip():
            lines.append((first, whole))
        begun, first = "", 0
    if begun.strip():
        lines.append((first, begun))
    return lines


def _without_comment(text: str) -> str:
    """Cut a comment off. `#1000` and `%#27` are ids, and `#include` is a directive."""
    if INCLUDE.fullmatch(text.strip()):
        return text
    quoted = False
    for place, sign in enumerate(text):
        if sign == '"':
            quoted = not quoted
        if sign != "#" or quoted or (place and text[place - 1] == "\\"):
            continue
        if re.match(r"#-?\d+(?=[\s,=:)!]|$)", text[place:]) and (
            place == 0 or text[place - 1] in " \t,(%:!="
        ):
            continue
        return text[:place]
    return text
