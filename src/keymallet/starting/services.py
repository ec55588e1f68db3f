"""A service that is added to an estate: what has to be asked, and the section that comes of it."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from typing import Any
from urllib.parse import unquote, urlsplit

import tomlkit

from keymallet.core.base.problems import fail
from keymallet.starting.questions import KINDS, KINDS_ASKED, KINDS_MEANT, NONE, Answers, Question

LDAP, SCIM = "ldap", "scim"
_SCHEMES = {"ldap": LDAP, "ldaps": LDAP, "ldapi": LDAP, "http": SCIM, "https": SCIM}
_NOBODY, _SYSTEM_USER = "nobody", "system-user"
_NO_ENTRY = "this is no name of an entry"
_POINTERS = ("env:", "file:")
_DATABASES = ("postgresql", "postgres", "mysql", "mariadb", "sqlserver", "oracle", "mongodb")


def kind_of(url: str) -> str:
    """By which reader a service is read. Raises KeymalletError for an address of something else."""
    parts = urlsplit(url)
    if parts.scheme in _DATABASES:
        hint = "export them as CSV, then keymallet start; docs/exports.md says what to ask for"
        raise fail("accounts of database servers are not read directly", file=_without_secret(url), hint=hint)
    if parts.scheme not in _SCHEMES or (not parts.hostname and parts.scheme != "ldapi"):
        hint = "ldaps://host, ldap://host, ldapi://…, or https://host/path of a SCIM service"
        raise fail("this is no address of a service", file=_without_secret(url), hint=hint)
    if parts.username is not None or parts.password is not None or parts.query or parts.fragment:
        hint = "only scheme, host and path: who signs in, and with what, is asked"
        raise fail("the address says more than where the service is", file=_without_secret(url), hint=hint)
    return _SCHEMES[parts.scheme]


def without_base(kind: str, url: str) -> tuple[str, str]:
    """The address alone, and where its entries are if it says so (RFC 4516)."""
    parts = urlsplit(url)
    if kind != LDAP or parts.scheme == "ldapi":
        return url, ""
    return f"{parts.scheme}://{parts.netloc}", unquote(parts.path.strip("/"))


def _without_secret(url: str) -> str:
    """The address without what may stand in front of the host or behind the path."""
    scheme, _, rest = url.partition("://")
    return f"{scheme}://{rest.rpartition('@')[2].partition('?')[0]}" if rest else scheme


def service_questions(
    kind: str, url: str, taken: Collection[str], contexts: Sequence[str] = ()
) -> list[Question]:
    """What has to be asked; `taken` are names of sources that are there, `contexts` where its entries are."""
    name = _free("directory" if kind == LDAP else "cloud", taken)
    asked = [
        Question(("service", "name"), "What is it called in the estate?", name, check=_name_check(taken))
    ]
    secret = f"env:{name.upper().replace('-', '_')}_{'PASSWORD' if kind == LDAP else 'TOKEN'}"
    if kind == LDAP:
        asked += [
            Question(
                ("service", "base"),
                "Below which entry are its accounts?",
                contexts[0] if contexts else "",
                example="dc=gvr,dc=example",
                check=lambda answer: (
                    "" if "=" in answer else "this is no name of an entry, like dc=gvr,dc=example"
                ),
            ),
            Question(
                ("service", "sign-in-as"),
                f"As which entry does the reader sign in? It only has to read. ({_NOBODY}: without signing in"
                f"{f'; {_SYSTEM_USER}: as the user of this machine' if url.startswith('ldapi') else ''})",
                _SYSTEM_USER if url.startswith("ldapi") else _NOBODY,
                example="cn=reader,dc=gvr,dc=example",
                check=_sign_in_fault,
            ),
        ]
    asked.append(
        Question(
            ("service", "secret-from"),
            f"Where does its {'password' if kind == LDAP else 'token'} stand? Never the secret itself.",
            secret,
            example="file:secrets/reader",
            check=_pointer_fault,
        )
    )
    if kind == SCIM:
        choices = {"accounts": "people sign in with them", "staff": "people of the staff list, no accounts"}
        asked.append(Question(("service", "users"), "What are its users?", "accounts", choices))
    asked.append(Question(("service", "kinds"), KINDS_ASKED, "people", dict(KINDS_MEANT)))
    what = "groups" if kind == LDAP else "roles"
    asked.append(
        Question(
            ("service", "privileged"),
            f"Which of its {what} give power over others? Names or patterns, with commas between.",
            NONE,
            example="admins, ops-*",
        )
    )
    return asked


def _free(name: str, taken: Collection[str]) -> str:
    number = 1
    while (name if number == 1 else f"{name}-{number}") in taken:
        number += 1
    return name if number == 1 else f"{name}-{number}"


def _name_check(taken: Collection[str]) -> Any:
    def check(answer: str) -> str:
        if answer in taken:
            return f'there is a source "{answer}" already'
        good = answer.replace("-", "a").isalnum() and answer == answer.lower() and answer.isascii()
        return "" if good and answer.strip("-") == answer else "small letters, digits and hyphens: hr-cloud"

    return check


def _sign_in_fault(answer: str) -> str:
    if answer in (_NOBODY, _SYSTEM_USER) or "=" in answer or "@" in answer:
        return ""
    return f"{_NO_ENTRY}, like cn=reader,dc=gvr,dc=example; or {_NOBODY}"


def _pointer_fault(answer: str) -> str:
    """What is wrong with a pointer; the answer is not said again, since it may be the secret itself."""
    kind, _, name = answer.partition(":")
    if f"{kind}:" in _POINTERS and name.strip():
        return ""
    return 'write "env:NAME" or "file:PATH": the secret itself is never asked for'


def section_of(kind: str, url: str, answers: Answers, *, start_tls: bool, ca_file: str) -> dict[str, Any]:
    """The section of the estate file, as plain values in the order in which they stand there."""
    told = {about[-1]: str(answer) for about, answer in answers.items() if about[0] == "service"}
    section: dict[str, Any] = {"read": kind, "url": url}
    if kind == LDAP:
        section["base"] = told["base"]
        if start_tls:
            section["start-tls"] = True
        if told["sign-in-as"] in (_NOBODY, _SYSTEM_USER):
            section["sign-in"] = "anonymous" if told["sign-in-as"] == _NOBODY else "external"
        else:
            section |= {"bind-dn": told["sign-in-as"], "password-from": told["secret-from"]}
    else:
        section["token-from"] = told["secret-from"]
    if ca_file:
        section["ca-file"] = ca_file
    if kind == SCIM and told["users"] == "staff":
        return section | {"roster": True}
    if told["kinds"] == "people":
        section["kinds"] = dict(KINDS)
    if told["privileged"].strip() not in ("", NONE):
        patterns = [each.strip() for each in told["privileged"].split(",") if each.strip()]
        section["privileged-groups" if kind == LDAP else "privileged-roles"] = patterns
    return section


def section_text(name: str, section: dict[str, Any]) -> str:
    """The section as it stands in an estate file."""
    table = tomlkit.table()
    for key, value in section.items():
        if isinstance(value, dict):
            inline = tomlkit.inline_table()
            inline.update(value)
            table.add(key, inline)
        else:
            table.add(key, value)
    document = tomlkit.document()
    document.add("source", tomlkit.table(is_super_table=True).add(name, table))
    return tomlkit.dumps(document)
