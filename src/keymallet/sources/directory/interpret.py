"""Entries of a directory to fact tables: whichever way they were got, they are read here.

A directory hides attributes from those who may not see them, without a word. A family of attributes is
taken as visible only if some account other than the reader's own shows it, or the estate says so; else
the facts that rest on it are not supplied.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import datetime
from fnmatch import fnmatchcase
from typing import Any
from uuid import UUID

from keymallet.core.facts.declaration import ACCOUNT, GRANT, KEY, SETTING
from keymallet.core.facts.evidence import UNREAD
from keymallet.core.facts.reading import Reading, Refusal
from keymallet.sources.directory.entries import Entry, by_key, normal_dn
from keymallet.sources.directory.groups import DirectoryGroups, Membership, group_name, is_one_of
from keymallet.sources.directory.policies import NOT_KNOWN, SETTING_FACTS, Policies
from keymallet.sources.directory.state import (
    FAMILIES,
    Family,
    delegations,
    is_machine,
    is_readable,
    password_scheme,
)
from keymallet.sources.sections import DirectorySection
from keymallet.sources.shared.ageing import ShadowEntry, of_shadow, opens_a_session
from keymallet.sources.shared.certificates import (
    CERTIFICATES,
    KEY_FACTS,
    SSH_KEYS,
    UnreadableKeyError,
    certificate_row,
    has_keys,
    ssh_row,
)
from keymallet.sources.shared.no_notion import rights_have_no_end
from keymallet.sources.shared.row_tables import enter_table

_TEXTS = {
    "display": ("displayname", "cn"),
    "mail": ("mail",),
    "person": ("employeenumber", "employeeid"),
    "unit": ("ou", "department", "departmentnumber"),
    "title": ("title",),
}
_SSH_ATTRIBUTES = {"sshpublickey": "sshPublicKey", "ipasshpubkey": "ipaSshPubKey"}
_IDS = ("entryuuid", "nsuniqueid", "ipauniqueid", "objectguid")
_SHADOW = ("shadowlastchange", "shadowmax", "shadowexpire", "shadowinactive")
_SHADOW_FACTS = (
    "ends",
    "password-changed",
    "password-must-change",
    "password-never-expires",
    "password-expires",
    "password-lapses",
)
_SECONDS_A_DAY = 86_400


@dataclass
class Directory:
    """What was got out of a directory.

    `own` is the entry the reader signed in as, which sees more of itself than of others;
    `with_password` the entries that have a password, where that was asked for without its value; unless
    `all_asked`, others may have one too.
    """

    section: DirectorySection
    reading: Reading
    at: datetime
    entries: list[Entry]
    own: str = ""
    with_password: set[str] | None = None
    all_asked: bool = True
    named: dict[str, Entry] = field(default_factory=dict)
    """The accounts by their login name, once they are interpreted."""
    _logins: dict[str, str] = field(default_factory=dict)

    def interpret(self) -> None:
        """Fill the reading's tables."""
        accounts, groups = self._sorted_out()
        named = self.named = self._named(accounts)
        self._logins = {entry.key: login for login, entry in named.items()}
        policies = Policies(self.entries, self.section.default_policy)
        membership = DirectoryGroups(groups)
        families = self._visible(list(named.values()))
        rows = self._rows(named, families, policies, membership)
        enter_table(self.reading, ACCOUNT, rows, self._supply(named, families, groups))
        self._key_table(named)
        self._grant_table(named, membership)
        self._setting_table(named, policies)
        rights_have_no_end(self.reading)
        self._remarks(named, families, policies)

    # which entries are what

    def _sorted_out(self) -> tuple[list[Entry], list[Entry]]:
        wanted = {object_class.lower() for object_class in self.section.accounts}
        group_classes = {object_class.lower() for object_class in self.section.groups}
        groups = [entry for entry in self.entries if entry.classes & group_classes]
        taken = {id(entry) for entry in groups}
        accounts = [entry for entry in self.entries if id(entry) not in taken and entry.classes & wanted]
        other = Counter(
            "/".join(sorted(entry.classes)[-1:]) or "no class"
            for entry in self.entries
            if id(entry) not in taken and not entry.classes & wanted
        )
        if other:
            listed = ", ".join(f"{number:,} {name}" for name, number in other.most_common(6))
            self.reading.remarks.append(f"entries that are neither accounts nor groups: {listed}")
        return accounts, groups

    def _named(self, accounts: list[Entry]) -> dict[str, Entry]:
        """Accounts by login name. A second one of a name goes by its whole DN, so that none is lost."""
        named: dict[str, Entry] = {}
        doubled = []
        for entry in accounts:
            login = entry.text(*(name.lower() for name in self.section.name))
            if login is None:
                reason = f"{entry.dn[:80]}: it has none of {', '.join(self.section.name)} for a login name"
                self._refuse(entry, reason)
                continue
            if login in named:
                doubled.append(login)
                login = entry.dn
                if login in named:
                    self._refuse(entry, f"{entry.dn[:80]}: a second entry of this name")
                    continue
            named[login] = entry
        if doubled:
            shown = ", ".join(doubled[:5])
            self.reading.remarks.append(
                f"{len(doubled):,} login names stand twice, the second under its DN: {shown}"
            )
        return named

    def _refuse(self, entry: Entry, reason: str) -> None:
        self.reading.table_intake("account").refuse(Refusal(entry.place, entry.line, reason))

    def _visible(self, accounts: list[Entry]) -> list[Family]:
        """The families of attributes that can be seen."""
        visible = {name.lower() for name in self.section.visible}
        own = normal_dn(self.own) if self.own else ""
        return [
            family
            for family in FAMILIES
            if visible & set(family.witnesses)
            or any(entry.has(*family.witnesses) for entry in accounts if entry.key != own)
        ]

    # facts of accounts

    def _rows(
        self, named: dict[str, Entry], families: list[Family], policies: Policies, membership: DirectoryGroups
    ) -> list[dict[str, Any]]:
        # A server that keeps a state of its own heeds that alone.
        shadowed = not families and any(entry.has(*_SHADOW) for entry in named.values())
        passwords = self._passwords(list(named.values()))
        rows = []
        for login, entry in named.items():
            row = self._texts(login, entry)
            if shadowed:
                row |= self._of_shadow(login, entry)
            own = [grant for grant in families if len(families) == 1 or entry.has(*grant.witnesses)]
            for family in own:
                row |= family.read(entry, policies, self.at)
            policy = policies.of(entry)
            row["stands-at"] = entry.dn
            row["as-found"] = [line for family in own for line in family.switches(entry, policy)]
            if passwords is not None:
                row |= passwords(entry)
            row["groups"] = [group_name(grant.group) for grant in membership.of(entry, login)]
            unread = [name for name, value in row.items() if value is NOT_KNOWN]
            if unread:
                row |= dict.fromkeys(unread) | {UNREAD: unread}
            rows.append(row)
        return rows

    def _texts(self, login: str, entry: Entry) -> dict[str, Any]:
        row: dict[str, Any] = {"name": login}
        for fact, names in _TEXTS.items():
            row[fact] = entry.text(*names)
        manager = entry.text("manager")
        row["manager"] = self._logins.get(normal_dn(manager), manager) if manager else None
        row["stable-id"] = _stable_id(entry)
        row["created"] = entry.time("createtimestamp") or entry.time("whencreated")
        row["labels"] = entry.texts("employeetype")
        shell = entry.text("loginshell")
        row["interactive"] = opens_a_session(shell) if shell is not None else None
        kinds = self.section.kinds.items()
        kind = next((kind for pattern, kind in kinds if fnmatchcase(login, pattern)), None)
        row["kind"] = "service" if is_machine(entry) else kind
        return row

    def _of_shadow(self, login: str, entry: Entry) -> dict[str, Any]:
        numbers = [entry.number(name) for name in _SHADOW]
        changed, maximum, expires, inactive = (
            None if number is None or number < 0 else number for number in numbers
        )
        line = ShadowEntry(login, "", changed, maximum, inactive, expires)
        facts = of_shadow(line, "1.7", int(self.at.timestamp()) // _SECONDS_A_DAY)
        return {name: facts[name] for name in _SHADOW_FACTS}

    def _passwords(self, accounts: list[Entry]) -> Callable[[Entry], dict[str, Any]] | None:
        """How to tell whether an account has a password; None where that cannot be seen."""
        stored = any(entry.has("userpassword") for entry in accounts)
        asked = self.with_password
        if not stored and not asked:
            return None

        def of(entry: Entry) -> dict[str, Any]:
            has = entry.has("userpassword") or bool(asked and entry.key in asked)
            values = entry.values.get("userpassword", [])
            told = has if has or self.all_asked else NOT_KNOWN
            facts = {"has-password": told, "password-empty": False}
            if stored:
                facts |= {
                    "password-scheme": password_scheme(values),
                    "password-readable": is_readable(values),
                }
            return facts

        return of

    def _supply(self, named: dict[str, Entry], families: list[Family], groups: list[Entry]) -> dict[str, str]:
        accounts = list(named.values())
        supply = {"name": ", ".join(self.section.name), "kind": "the estate's kinds"}
        own = normal_dn(self.own) if self.own else ""
        seen = {name for entry in accounts if entry.key != own for name in entry.values}
        for fact, names in (
            *_TEXTS.items(),
            ("manager", ("manager",)),
            ("stable-id", _IDS),
            ("created", ("createtimestamp", "whencreated")),
            ("labels", ("employeetype",)),
            ("interactive", ("loginshell",)),
        ):
            shown = [name for name in names if name in seen]
            if shown:
                supply[fact] = ", ".join(shown)
        if not families and seen & set(_SHADOW):
            supply |= dict.fromkeys(_SHADOW_FACTS, "the shadow attributes, which only hosts heed")
        supply["stands-at"] = "the DN"
        for family in families:
            supply |= family.supplies
            supply["as-found"] = "what bars an account and demands a new password"
        if self._passwords(accounts) is not None:
            supply |= dict.fromkeys(("has-password", "password-empty"), "whether userPassword is there")
            if "userpassword" in seen:
                how = "userPassword, the scheme in front"
                supply |= dict.fromkeys(("password-scheme", "password-readable"), how)
        if groups or "memberof" in seen:
            supply["groups"] = "members of groups, memberOf, the primary group"
        hidden = [name.lower() for name in self.section.hidden]
        return {
            fact: columns
            for fact, columns in supply.items()
            if fact == "name" or not any(name in _words(columns) for name in hidden)
        }

    # what belongs to accounts, and what is in force

    def _key_table(self, named: dict[str, Entry]) -> None:
        if not has_keys(list(named.values())):
            return
        rows: list[dict[str, Any]] = []
        for login, entry in named.items():
            for name in CERTIFICATES:
                for data in entry.values.get(name, ()):
                    rows += self._key(entry, certificate_row, login, data)
            for name in SSH_KEYS:
                for text in entry.texts(name):
                    where = {"stands-at": entry.dn, "as-found": [f"{_SSH_ATTRIBUTES[name]}: {text}"]}
                    rows += [row | where for row in self._key(entry, ssh_row, login, text)]
        facts = (*KEY_FACTS, "stands-at", "as-found")
        enter_table(self.reading, KEY, rows, dict.fromkeys(facts, "userCertificate and SSH keys"))

    def _key(
        self, entry: Entry, read: Callable[[str, Any], dict[str, Any]], login: str, value: Any
    ) -> list[dict[str, Any]]:
        try:
            return [read(login, value)]
        except UnreadableKeyError as error:
            refusal = Refusal(entry.place, entry.line, f"{entry.dn[:80]}: {error}")
            self.reading.table_intake("key").refuse(refusal)
            return []

    def _grant_table(self, named: dict[str, Entry], membership: DirectoryGroups) -> None:
        patterns = self.section.privileged_groups
        if not patterns:
            return
        privileged = {key for key, group in membership.by_key.items() if is_one_of(group, patterns)}
        for pattern in patterns:
            if not any(is_one_of(group, [pattern]) for group in membership.by_key.values()):
                self.reading.remarks.append(f'privileged-groups: no group is called "{pattern}"')
        rows = [
            {
                "account": login,
                "role": group_name(grant.group),
                "privileged": True,
                "mode": "standing",
                "via": grant.via,
                **_where_held(entry, login, grant, membership),
            }
            for login, entry in named.items()
            for grant in membership.of(entry, login)
            if grant.group.key in privileged
        ]
        rows += [
            {
                "account": login,
                "role": "acting in the name of others",
                "privileged": True,
                "mode": "standing",
                "via": "direct",
                "scope": scope,
            }
            for login, entry in named.items()
            for scope in delegations(entry)
        ]
        how = "members of the estate's privileged-groups, and delegation"
        columns = ("account", "role", "privileged", "mode", "via", "scope", "stands-at", "as-found")
        enter_table(self.reading, GRANT, rows, dict.fromkeys(columns, how))

    def _setting_table(self, named: dict[str, Entry], policies: Policies) -> None:
        if not policies.found:
            return
        holders: dict[str, list[str]] = {policy.name: [] for policy in policies.found.values()}
        for login, entry in named.items():
            policy = policies.of(entry)
            if policy is not None and not policies.is_for_all(policy):
                holders[policy.name].append(login)
        for policy in policies.found.values():
            if policies.is_for_all(policy):
                holders[policy.name] = ["everyone"]
        rows = [policy.row(holders[policy.name]) for policy in policies.found.values()]
        enter_table(self.reading, SETTING, rows, dict.fromkeys(SETTING_FACTS, "the policy's own entry"))

    # what is odd

    def _remarks(self, named: dict[str, Entry], families: list[Family], policies: Policies) -> None:
        remark = self.reading.remarks.append
        accounts = list(named.values())
        if families:
            remark(f"attributes that can be seen: {', '.join(family.name for family in families)}")
        else:
            remark(
                "no account shows any state of password or lock, hidden or not there: all of it is unknown"
            )
        lost = sum(policies.of(entry) is None for entry in accounts) if families else 0
        if policies.default_is_missing:
            remark(f"default-policy: no such entry was read: {self.section.default_policy}")
        if lost:
            hint = "default-policy in the estate names the one that holds by default"
            remark(
                f"{lost:,} accounts whose password policy was not read: what rests on it is unknown; {hint}"
            )
        if any(entry.has(*_SHADOW) for entry in accounts):
            remark("shadow attributes: hosts that take accounts from here heed them, the directory does not")
        unclear = sum(kind is None for kind in self.reading.tables["account"]["kind"])
        if unclear:
            hint = 'kinds = { "svc-*" = "service", "*" = "person" } in the estate would tell'
            remark(f"{unclear:,} accounts of unknown kind; {hint}")


def _words(spoken: str) -> list[str]:
    return spoken.lower().replace(",", " ").split()


def _where_held(
    entry: Entry, login: str, grant: Membership, membership: DirectoryGroups
) -> dict[str, str | list[str]]:
    """The group whose member the account is, where it has to leave no other to lose the right."""
    lines = membership.lines_of(entry, login, grant.group) if len(grant.path) == 1 else None
    return {} if lines is None else {"stands-at": grant.group.dn, "as-found": lines}


def _stable_id(entry: Entry) -> str | None:
    binary = entry.values.get("objectguid", [b""])[0]
    if len(binary) == 16:
        return str(UUID(bytes_le=binary))
    return entry.text(*_IDS)


def unique(entries: list[Entry]) -> list[Entry]:
    """Each entry once: searches below several bases can find one twice."""
    return list(by_key(entries).values())
