"""The shapes of a source's section in the estate file, one for each reader.

They stand apart from the readers so that an estate can be checked without loading any of them.
"""

from __future__ import annotations

from typing import Literal

import msgspec


class ExportSection(msgspec.Struct, rename="kebab", frozen=True):
    """The source's section of the estate file: an export's column map, and its files table by table."""

    read: str
    map: str
    files: dict[str, str | list[str]]
    stale_after: str = ""
    within: str = ""


class HostSection(msgspec.Struct, rename="kebab", frozen=True):
    """The source's section of the estate file.

    `pam` is the release whose ageing rule holds: they differ on the very day; else it follows from the
    host's release file. `kinds` says by patterns of the login name what an account is; the first that
    fits counts. `persons` names the source whose account of the same login name tells the person.
    """

    read: str
    folder: str
    pam: Literal["1.5", "1.7"] | None = None
    kinds: dict[str, Literal["person", "guest", "service", "shared", "system", "emergency"]] = {}
    persons: str = ""
    stale_after: str = ""
    within: str = ""


KindWord = Literal["person", "guest", "service", "shared", "system", "emergency"]


class DirectorySection(msgspec.Struct, rename="kebab", frozen=True, kw_only=True):
    """How a directory's entries are to be understood, however they are got.

    `accounts` and `groups` are object classes, `name` the attributes that can be the login name, the
    first that is there. `default_policy` is the DN of the password policy that holds where an account
    names none. `privileged_groups` are names, patterns of names or DNs. `visible` and `hidden` are
    attributes that the reader is known to see, or not to see, of others.
    """

    read: str
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
    persons: str = ""
    stale_after: str = ""
    within: str = ""


class LdifSection(DirectorySection, rename="kebab", frozen=True, kw_only=True):
    """The source's section of the estate file."""

    files: str | list[str]


class LdapSection(DirectorySection, rename="kebab", frozen=True, kw_only=True):
    """The source's section of the estate file.

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


class ScimSection(msgspec.Struct, rename="kebab", frozen=True, kw_only=True):
    """The source's section of the estate file.

    `facts` reads attributes of other extensions by their path; `user_types` says which word of ours a
    userType is; `privileged_roles` are patterns of role names. `time_limit` is seconds an answer may take.
    With `roster`, users are people of the staff list, not accounts: `facts` are then those of people,
    `contracts` says which contract a userType is, `plain` whether a plain last day still counts.
    """

    read: str
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
    persons: str = ""
    stale_after: str = ""
    within: str = ""


READERS: dict[str, tuple[type[msgspec.Struct], str]] = {
    "csv": (ExportSection, "keymallet.sources.csv_export"),
    "host": (HostSection, "keymallet.sources.host"),
    "json": (ExportSection, "keymallet.sources.json_export"),
    "ldap": (LdapSection, "keymallet.sources.ldap"),
    "ldif": (LdifSection, "keymallet.sources.ldif"),
    "scim": (ScimSection, "keymallet.sources.scim"),
}
"""`read = "…"` of a source: the shape of its section, and the module whose `read` reads it."""

EXTRAS = {"ldap": "ldap", "ldif": "ldap", "scim": "scim"}
"""Which extra of the package a reader needs, by the last part of its module's name."""
