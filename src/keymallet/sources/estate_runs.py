"""What the estate file says of the weeks after: where the logbook is, and who answers for what."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass
from fnmatch import fnmatchcase
from pathlib import Path
from urllib.parse import urlsplit

import msgspec

from keymallet.core.base.toml_text import TomlDocument
from keymallet.core.facts.declaration import ACCOUNT, words_of
from keymallet.core.history.answers import Answers
from keymallet.core.rulebook.model import TOPICS

NO_LOGBOOK = 'logbook = "logbook" in it names a folder, and keymallet judge writes every run into that'
_SERVER = ("postgresql", "postgres")


class AnswersText(msgspec.Struct, rename="kebab", frozen=True):
    """Who answers for what, as it stands in the file."""

    by: str
    mail: str = ""
    sources: tuple[str, ...] = ()
    units: tuple[str, ...] = ()
    kinds: tuple[str, ...] = ()
    rules: tuple[str, ...] = ()
    topics: tuple[str, ...] = ()


@dataclass(frozen=True)
class LogbookPlace:
    """Where the logbook is: a folder; or the address of a database, with the folder of its files.

    `sign_with` points to the private key that its runs are signed with, if they are.
    """

    folder: Path
    server: str = ""
    password_from: str = ""
    sign_with: str = ""


def logbook_place(document: TomlDocument, folder: Path) -> LogbookPlace | None:
    """Where the estate says its logbook is; None where it has none."""
    where = document.data.get("logbook", "")
    files = document.data.get("logbook-files", "")
    password_from = document.data.get("logbook-password-from", "")
    sign_with = document.data.get("logbook-sign-with", "")
    if not all(isinstance(text, str) for text in (where, files, password_from, sign_with)) or not where:
        return None
    if "://" not in where:
        if files or password_from:
            key = "logbook-files" if files else "logbook-password-from"
            document.fault((key,), "this is for a logbook on a server", 'logbook = "postgresql://host/name"')
        return LogbookPlace(folder / where, sign_with=sign_with)
    parts = urlsplit(where)
    if parts.scheme not in _SERVER:
        hint = 'logbook = "logbook" for a folder, or "postgresql://user@host/database"'
        document.fault(("logbook",), f'a logbook is not kept by "{parts.scheme}"', hint)
        return None
    if parts.password is not None:
        hint = 'logbook-password-from = "env:NAME" or "file:PATH"'
        document.fault(("logbook",), "a password does not belong in the estate file", hint)
        return None
    if not document.data.get("identity"):
        hint = 'identity = "ferries": what tells this estate from others that may share the server'
        document.fault(("logbook",), "an estate with a logbook on a server needs an identity", hint)
        return None
    if not files:
        hint = 'logbook-files = "logbook": a folder that everybody who judges can write to'
        document.fault(("logbook",), "a logbook on a server needs a folder for its files", hint)
        return None
    return LogbookPlace(folder / files, where, password_from, sign_with)


def who_answers(
    document: TomlDocument, written: Collection[AnswersText], sources: Collection[str]
) -> tuple[Answers, ...]:
    """The entries of `[[answers]]`, checked against what there is."""
    known = {"sources": sources, "kinds": words_of(ACCOUNT, "kind"), "topics": tuple(TOPICS)}
    for number, each in enumerate(written):
        if not each.by.strip():
            hint = 'by = "manager", "owner", or the name of a desk'
            document.fault(("answers", number, "by"), "it has to say who answers", hint)
        if each.mail and "@" not in each.mail:
            document.fault(("answers", number, "mail"), f'"{each.mail}" is no mail address', "name@host")
        for key, words in known.items():
            for place, pattern in enumerate(getattr(each, key)):
                begun = pattern.split("/")[0] if key == "sources" else pattern
                if not any(fnmatchcase(word, begun) for word in words):
                    hint = f"there are: {', '.join(words)}"
                    fault = f'no {key.removesuffix("s")} is called like "{pattern}"'
                    document.fault(("answers", number, key, place), fault, hint)
    return tuple(
        Answers(
            each.by.strip(), each.mail.strip(), each.sources, each.units, each.kinds, each.rules, each.topics
        )
        for each in written
    )
