"""The shapes of a source's section in the estate file, and the table of all readers.

They stand apart from the readers so that an estate can be checked without loading any of them.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Literal

import msgspec

KindWord = Literal["person", "guest", "service", "shared", "system", "emergency"]
"""The kinds of account, as estate files say them; the same words as those of the fact `kind`."""


class SourceSection(msgspec.Struct, rename="kebab", frozen=True, kw_only=True):
    """What the section of every source can say, whatever reads it.

    `stale_after` is how old its evidence may get, `within` how long reading it may take; both are lengths
    of time, such as `36h`. `persons` names the source whose account of the same login name tells the person.
    With `strays` "expected", rows that name no account of the source are nobody's (keys of leavers, say).
    """

    read: str
    stale_after: str = ""
    within: str = ""
    persons: str = ""
    strays: Literal["", "expected"] = ""


class ExportSection(SourceSection, rename="kebab", frozen=True, kw_only=True):
    """An export's column map, and its files table by table.

    `as_of` is when its facts were true, where that is not when it is read: an instant, or "file" for the
    date of the oldest of its files.
    """

    map: str
    files: dict[str, str | list[str]]
    as_of: Any = None


class HostSection(SourceSection, rename="kebab", frozen=True, kw_only=True):
    """The folder of a Linux host's files, or of one such folder for each host.

    `pam` is the release whose ageing rule holds: they differ on the very day; else it follows from the
    host's release file. `kinds` says by patterns of the login name what an account is; the first that
    fits counts.
    """

    folder: str
    pam: Literal["1.5", "1.7"] | None = None
    kinds: dict[str, KindWord] = {}


class DirectorySection(SourceSection, rename="kebab", frozen=True, kw_only=True):
    """How a directory's entries are to be understood, however they are got.

    `accounts` and `groups` are object classes, `name` the attributes that can be the login name, the
    first that is there. `default_policy` is the DN of the password policy that holds where an account
    names none. `privileged_groups` are names, patterns of names or DNs. `visible` and `hidden` are
    attributes that the reader is known to see, or not to see, of others.
    """

    accounts: tuple[str, ...] = (
        "person",
        "account",
        "posixAccount",
        "shadowAccount",
        "user",
        "inetOrgPerson",
    )
    groups: tuple[str, ...] = ("groupOfNames", "groupOfUniqueNames", "groupOfMembers", "posixGroup", "group")
    name: tuple[str, ...] = ("uid", "sAMAccountName", "cn")
    default_policy: str = ""
    privileged_groups: tuple[str, ...] = ()
    kinds: dict[str, KindWord] = {}
    visible: list[str] = []
    hidden: list[str] = []


class LdifSection(DirectorySection, rename="kebab", frozen=True, kw_only=True):
    """The LDIF files of a directory."""

    files: str | list[str]


class LdapSection(DirectorySection, rename="kebab", frozen=True, kw_only=True):
    """A directory that is asked over LDAP.

    `base` is where to search; `filter` narrows what is taken. `sign_in` is by `bind_dn` and password,
    by the certificate or system user (`external`), or not at all. Times are in seconds.
    """

    url: str
    base: str | list[str]
    sign_in: Literal["simple", "external", "anonymous"] = "simple"
    bind_dn: str = ""
    password_from: str = ""
    start_tls: bool = False
    ca_file: str = ""
    verify_certificate: bool = True
    filter: str = "(objectClass=*)"
    page_size: int = 500
    time_limit: int = 120


class ScimSection(SourceSection, rename="kebab", frozen=True, kw_only=True):
    """A SCIM service.

    `facts` reads attributes of other extensions by their path; `user_types` says which word of ours a
    userType is; `privileged_roles` are patterns of role names. `time_limit` is seconds an answer may take.
    With `roster`, users are people of the staff list, not accounts: `facts` are then those of people,
    `contracts` says which contract a userType is, `plain` whether a plain last day still counts.
    """

    url: str
    token_from: str = ""
    ca_file: str = ""
    verify_certificate: bool = True
    page_size: int = 500
    time_limit: int = 60
    facts: dict[str, str] = {}
    user_types: dict[str, KindWord] = {}
    kinds: dict[str, KindWord] = {}
    privileged_roles: list[str] = []
    roster: bool = False
    contracts: dict[str, Literal["staff", "contractor", "temporary", "external"]] = {}
    plain: Literal["", "through", "until"] = ""


@dataclass(frozen=True, slots=True)
class Reader:
    """How one kind of source is read: `read = "…"` in the estate file.

    `section` is the shape of its section, `module` the module whose `read(section, request)` reads it,
    `extra` the optional extra of this package that has to be installed for it, if any.
    """

    section: type[SourceSection]
    module: str
    extra: str = ""


READERS: dict[str, Reader] = {
    "csv": Reader(ExportSection, "keymallet.sources.export.reading"),
    "host": Reader(HostSection, "keymallet.sources.host.hosts"),
    "json": Reader(ExportSection, "keymallet.sources.export.reading"),
    "ldap": Reader(LdapSection, "keymallet.sources.directory.ldap", extra="ldap"),
    "ldif": Reader(LdifSection, "keymallet.sources.directory.ldif", extra="ldap"),
    "text": Reader(ExportSection, "keymallet.sources.export.reading"),
    "scim": Reader(ScimSection, "keymallet.sources.scim.reader", extra="scim"),
}
"""All readers by the word that estate files call them by. A new source is a module and a row here."""
