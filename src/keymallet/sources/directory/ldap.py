"""`read = "ldap"`: a live directory over LDAPv3, read and never written.

Certificates are verified unless the estate spells out that they are not, which every snapshot then
says. Attributes are asked for by name, since operational ones come only so; hashes never are: whether
there is a password is asked with a filter. A search that the server cuts short leaves the reading
incomplete, and it says so.
"""

from __future__ import annotations

import re
import ssl
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from functools import partial
from typing import Any
from urllib.parse import unquote, urlsplit

import ldap3
import msgspec
from ldap3.core.exceptions import LDAPException

from keymallet.core.base.bounded import within
from keymallet.core.base.problems import KeymalletError, fail
from keymallet.core.facts.reading import Reading
from keymallet.sources.directory.entries import Entry, attribute_name, normal_dn
from keymallet.sources.directory.interpret import Directory, unique
from keymallet.sources.directory.policies import POLICY_ATTRIBUTES, SERVER_CONFIGURATION
from keymallet.sources.directory.state import FAMILIES
from keymallet.sources.request import Request
from keymallet.sources.sections import LdapSection
from keymallet.sources.shared.certificates import CERTIFICATES, SSH_KEYS
from keymallet.sources.shared.secret import is_loopback

_PLAIN = (
    "objectClass uid cn sAMAccountName displayName mail employeeNumber employeeID employeeType ou department"
    " departmentNumber title manager entryUUID nsUniqueId ipaUniqueID objectGUID objectSid createTimestamp"
    " whenCreated loginShell uidNumber gidNumber member uniqueMember memberUid memberOf shadowLastChange"
    " shadowMax shadowExpire shadowInactive"
).split()
ATTRIBUTES = list(
    dict.fromkeys(
        [
            *_PLAIN,
            *(name for family in FAMILIES for name in family.attributes.split()),
            *POLICY_ATTRIBUTES,
            *(name for name in (*CERTIFICATES, *SSH_KEYS) if ";" not in name),
        ]
    )
)
"""Everything that is asked for; a value of a password or of its history is not among it."""

_CUT_SHORT = {3: "the server's time limit", 4: "the server's size limit", 11: "an administrative limit"}
_CONNECT_SECONDS = 15


def read(section: LdapSection, request: Request) -> list[Reading]:
    """Read the directory. Raises KeymalletError if it cannot be reached or does not let the reader in."""
    reading = Reading(request.name)
    if not section.verify_certificate:
        reading.remarks.append(
            f"{section.url}: the server's certificate was not verified, as the estate says"
        )
    with _connected(section, request) as connection:
        bases = [section.base] if isinstance(section.base, str) else section.base
        entries: list[Entry] = []
        for base in bases:
            # Policies can be of a class that is found only by its name.
            narrowed = section.filter if section.filter.startswith("(") else f"({section.filter})"
            wanted = f"(|{narrowed}(objectClass=ldapsubentry))"
            entries += _search(connection, section, base, wanted, ATTRIBUTES, reading, request)
        if section.default_policy and normal_dn(section.default_policy) not in {
            entry.key for entry in entries
        }:
            entries += _one(connection, section.default_policy)
        entries += _domain_policies(connection, bases)
        keys = {entry.key for entry in entries}
        entries += [entry for dn in SERVER_CONFIGURATION for entry in _configuration(connection, dn)]
        with_password, all_asked = _with_password(connection, section, bases, reading)
        own = _own_entry(connection, section)
    if not keys:
        raise fail(
            f"nothing was found below {', '.join(bases)}",
            file=section.url,
            hint="is base right, and may this reader see anything there?",
        )
    directory = Directory(section, reading, request.at, unique(entries), own, with_password)
    directory.all_asked = all_asked
    directory.interpret()
    return [reading]


@dataclass(frozen=True)
class About:
    """What a directory tells anybody of itself: where its entries are, and whether it offers StartTLS."""

    contexts: tuple[str, ...]
    start_tls: bool
    called: str


def about(section: LdapSection, request: Request) -> About:
    """Ask a directory what it is, without signing in. Raises KeymalletError if it cannot be reached."""
    nobody = msgspec.structs.replace(section, sign_in="anonymous")
    try:
        return _about(nobody, request)
    except KeymalletError as error:
        if NOT_LET_IN in error.problems[0].message:
            return About((), False, "")  # a directory need not answer those who do not sign in
        raise


def _about(section: LdapSection, request: Request) -> About:
    with _connected(section, request) as connection:
        info = connection.server.info
        if info is None:
            return About((), False, "")
        offered = {str(extension[0]) for extension in info.supported_extensions or ()}
        called = " ".join(str(each) for each in (*(info.vendor_name or ()), *(info.vendor_version or ())))
        return About(tuple(map(str, info.naming_contexts or ())), _START_TLS in offered, called)


_START_TLS = "1.3.6.1.4.1.1466.20037"
"""RFC 4511, 4.14."""
NOT_LET_IN = "the directory does not let the reader in"
SAMPLED = 500
"""Entries that are looked at to see what a reader may see."""


def sample(section: LdapSection, request: Request) -> list[Reading]:
    """What the reader may see of the first entries, as they would be read. Raises as `read` does."""
    reading = Reading(request.name)
    bases = [section.base] if isinstance(section.base, str) else section.base
    entries: list[Entry] = []
    with _connected(section, request) as connection:
        for base in bases:
            connection.search(base, section.filter, attributes=ATTRIBUTES, size_limit=SAMPLED)
            if connection.result["result"] == 32:
                raise fail(f"there is no {base}", file=section.url)
            entries += _entries(connection, section.url)
        own = _own_entry(connection, section)
    Directory(section, reading, request.at, unique(entries), own).interpret()
    return [reading]


def _with_password(
    connection: ldap3.Connection, section: LdapSection, bases: list[str], reading: Reading
) -> tuple[set[str], bool]:
    """The entries that have a password; and whether all could be asked for it."""
    asking = Reading(reading.source)
    held = {
        entry.key
        for base in bases
        for entry in _search(connection, section, base, "(userPassword=*)", ["1.1"], asking)
    }
    reading.incomplete += [f"asked who has a password: {why}" for why in asking.incomplete]
    return held, not asking.incomplete


@contextmanager
def _connected(section: LdapSection, request: Request) -> Iterator[ldap3.Connection]:
    """A connection that is signed in, closed afterwards whatever happens."""
    try:
        connection = _open(section, request)
    except LDAPException as error:
        raise _cannot(section, error) from None
    try:
        yield connection
    except LDAPException as error:
        raise _cannot(section, error) from None
    finally:
        connection.unbind()


def _open(section: LdapSection, request: Request) -> ldap3.Connection:
    if not section.url.startswith(("ldap://", "ldaps://", "ldapi://")):
        raise fail("this is no address of a directory", file=section.url, hint="ldaps://host, or ldapi://…")
    ca = str(request.folder / section.ca_file) if section.ca_file else None
    if ca is not None and not (request.folder / section.ca_file).is_file():
        raise fail("there is no such file", file=section.ca_file, hint="ca-file in the estate file")
    verify = ssl.CERT_REQUIRED if section.verify_certificate else ssl.CERT_NONE
    tls = ldap3.Tls(validate=verify, ca_certs_file=ca)
    # The schema is not loaded: with it, asking for an attribute that a server lacks is an error.
    server = ldap3.Server(section.url, tls=tls, get_info=ldap3.DSA, connect_timeout=_CONNECT_SECONDS)
    options: dict[str, Any] = {
        "auto_referrals": False,
        "read_only": True,
        "check_names": False,
        "raise_exceptions": False,
        "receive_timeout": section.time_limit,
    }
    if section.sign_in == "simple":
        if not section.bind_dn or not section.password_from:
            hint = 'or sign-in = "anonymous", sign-in = "external"'
            raise fail("bind-dn and password-from are missing", file=section.url, hint=hint)
        secret = request.secret(section.password_from, "password-from")
        if section.url.startswith("ldap://") and not section.start_tls and not _is_this_machine(section.url):
            hint = "ldaps://, or start-tls = true"
            raise fail("a password is not sent in the clear", file=section.url, hint=hint)
        options |= {"user": section.bind_dn, "password": secret.reveal(), "authentication": ldap3.SIMPLE}
    elif section.sign_in == "external":
        # An identity to act as, be it an empty one, has to stand in the first message.
        options |= {"authentication": ldap3.SASL, "sasl_mechanism": ldap3.EXTERNAL, "sasl_credentials": ""}
    connection = ldap3.Connection(server, **options)
    _bounded(section, connection.open)
    if section.start_tls and not connection.start_tls():
        raise fail(f"StartTLS was refused: {_told(connection)}", file=section.url)
    if not _bounded(section, connection.bind):
        answer = _told(connection)
        connection.unbind()
        raise fail(f"{NOT_LET_IN}: {answer}", file=section.url)
    return connection


def _is_this_machine(url: str) -> bool:
    return is_loopback(urlsplit(url).hostname or "")


def _told(connection: ldap3.Connection) -> str:
    result = connection.result or {}
    message = str(result.get("message") or "").strip()
    return f"{result.get('description', 'no answer')}{': ' + message if message else ''}"


_ANOTHERS = re.compile(r"certificate \{'subject'.*?'commonName', '([^']*)'.*doesn't match", re.DOTALL)


def _cannot(section: LdapSection, error: LDAPException) -> KeymalletError:
    """The library's fault in our form. What it says holds no secret: passwords are sent, not told."""
    text = " ".join(str(error).split()) or type(error).__name__
    # The library shows the whole certificate, with its subject first.
    if named := _ANOTHERS.search(text):
        text = f"the certificate is not valid for this host: it is for {named[1]}"
    text = text[:200]
    hint = (
        "is it running, and does ca-file name who signed its certificate?"
        if "certificate" in text.lower()
        else ""
    )
    return fail(f"the directory cannot be read: {text}", file=section.url, hint=hint)


def _search(
    connection: ldap3.Connection,
    section: LdapSection,
    base: str,
    filter_: str,
    attributes: list[str],
    reading: Reading,
    request: Request | None = None,
) -> list[Entry]:
    """All entries below a base, page by page. Where the server stops early, the reading is incomplete."""
    entries: list[Entry] = []
    cookie: Any = None
    while True:
        _bounded(
            section,
            partial(
                connection.search,
                base,
                filter_,
                attributes=attributes,
                paged_size=section.page_size,
                paged_cookie=cookie,
                time_limit=section.time_limit,
            ),
        )
        result = connection.result
        entries += _entries(connection, section.url)
        for referral in _referrals(connection):
            text = f"below {base}, {referral} has a part, which was not asked"
            if text not in reading.referrals:
                reading.referrals.append(text)
        if request is not None:
            request.advanced(len(entries), None, "entries")
        code = result["result"]
        if code in _CUT_SHORT:
            reading.incomplete.append(
                f"below {base}, {_CUT_SHORT[code]} ended the search after {len(entries):,} entries"
            )
            return entries
        if code == 32:
            raise fail(f"there is no {base}", file=section.url, hint="base in the estate file")
        if code != 0:
            reading.incomplete.append(f"below {base}, the search ended with {_told(connection)}")
            return entries
        cookie = result.get("controls", {}).get("1.2.840.113556.1.4.319", {}).get("value", {}).get("cookie")
        if not cookie:
            return entries


def _bounded(section: LdapSection, call: Callable[[], Any]) -> Any:
    """What a call gives within the section's time limit, whatever drips. Raises LDAPException."""
    late = f"no whole answer within {section.time_limit} s (time-limit)"
    # The server's own limit ends a search in time; a little more is given for it to say so.
    return within(section.time_limit + 2, call, lambda: LDAPException(late))


def _entries(connection: ldap3.Connection, url: str) -> list[Entry]:
    """The entries of the last answer; referrals to other servers are not followed."""
    entries = []
    for response in connection.response or ():
        if response.get("type") != "searchResEntry":
            continue
        values: dict[str, list[bytes]] = {}
        for described, raw in response["raw_attributes"].items():
            if raw:
                values.setdefault(attribute_name(described), []).extend(raw)
        entries.append(Entry(response["dn"], values, url))
    return entries


_NO_ACCOUNTS = ("cn=configuration,", "dc=domaindnszones,", "dc=forestdnszones,")
"""Parts that a domain controller keeps beside the accounts; it refers to them in every answer."""


def _referrals(connection: ldap3.Connection) -> list[str]:
    """Other servers that the last answer refers to for a part of what is below the base (RFC 4511, 4.5.3)."""
    references = [
        str(uri)
        for response in connection.response or ()
        if response.get("type") == "searchResRef"
        for uri in response.get("uri") or ()
    ]
    return [uri for uri in references if not unquote(uri).rpartition("/")[2].lower().startswith(_NO_ACCOUNTS)]


def _one(connection: ldap3.Connection, dn: str) -> list[Entry]:
    """One entry by its name; none if it is not there or may not be seen."""
    connection.search(dn, "(objectClass=*)", search_scope=ldap3.BASE, attributes=ATTRIBUTES)
    return _entries(connection, "")


def _configuration(connection: ldap3.Connection, dn: str) -> list[Entry]:
    """The part of the server's own configuration below a name that says how accounts are treated."""
    scope = ldap3.BASE if dn == "cn=config" else ldap3.SUBTREE
    connection.search(dn, "(objectClass=*)", search_scope=scope, attributes=ATTRIBUTES)
    return _entries(connection, "")


def _domain_policies(connection: ldap3.Connection, bases: list[str]) -> list[Entry]:
    """The naming contexts above the bases, which can hold a domain's own policy."""
    info = connection.server.info
    contexts = info.naming_contexts if info is not None else None
    wanted = [
        context
        for context in contexts or ()
        if any(
            normal_dn(base) != normal_dn(context) and normal_dn(base).endswith(normal_dn(context))
            for base in bases
        )
    ]
    return [entry for context in wanted for entry in _one(connection, context) if entry.has("maxpwdage")]


def _own_entry(connection: ldap3.Connection, section: LdapSection) -> str:
    """The entry the reader signed in as: it sees more of itself than of others."""
    try:
        answer = connection.extend.standard.who_am_i()
    except LDAPException:
        answer = None
    return str(answer).removeprefix("dn:") if answer else section.bind_dn
