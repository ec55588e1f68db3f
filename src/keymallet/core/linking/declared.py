"""What an estate declares of how accounts belong together: whose they are, and which sources must agree."""

from __future__ import annotations

from dataclasses import dataclass
from fnmatch import fnmatchcase

from keymallet.core.base.source_names import is_of

MATCHED_FACTS = ("name", "mail", "display", "stable-id", "owner")
"""Facts of an account that a match rule can go by."""
PERSON_KEYS = ("person", "mail", "mail-name", "name")
"""What of a person a match rule can find them by; `mail-name` is the part of the address before the @."""
TWIN_KEYS = ("name", "mail", "person", "stable-id")
"""Facts by which two accounts can be known for twins."""


@dataclass(frozen=True)
class MatchRule:
    """One way to tell whose an account is.

    Of the account's fact `account`, as far as it looks `like` the pattern, the part that * stands for is
    held against the `person`'s, or against the logins of the source `login_in`, in any case of letters.
    `sources` are patterns of source names; `kinds` are the kinds of account it is for.
    """

    account: str = "name"
    like: str = "*"
    person: str = ""
    login_in: str = ""
    sources: tuple[str, ...] = ("*",)
    kinds: tuple[str, ...] = ("person", "guest")

    @property
    def text(self) -> str:
        """How it is told of an account that this rule found its person."""
        pattern = "" if self.like == "*" else f" like {self.like}"
        found_by = f"login in {self.login_in}" if self.login_in else f"{self.person} of the roster"
        return f"{self.account}{pattern} = {found_by}"

    def covers(self, source: str) -> bool:
        """Whether it is for accounts of this source."""
        return any(is_of(source, pattern) or fnmatchcase(source, pattern) for pattern in self.sources)


@dataclass(frozen=True)
class Federation:
    """A source whose accounts without a password of their own are proven by accounts of another.

    An account is proven by the one whose fact `by` is the same, capital letters or not where `ignore_case`
    says so.
    """

    source: str
    proven_by: str
    by: str = "name"
    ignore_case: bool = False


@dataclass(frozen=True)
class SourcePair:
    """Two sources whose accounts of these `kinds` (empty: all) must agree in these facts.

    Two accounts are twins if their fact `by` is the same, capital letters or not where `ignore_case` says so.
    """

    sources: tuple[str, str]
    by: str = "name"
    kinds: tuple[str, ...] = ()
    facts: tuple[str, ...] = ()
    ignore_case: bool = False
