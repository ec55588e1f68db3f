"""One host: its files read in turn, and put together into fact tables."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Callable
from dataclasses import dataclass, field
from fnmatch import fnmatchcase
from typing import Any, TypeVar
from zoneinfo import ZoneInfo

import polars as pl

from keymallet.core.base.listing import some_names
from keymallet.core.base.problems import fail
from keymallet.core.facts.declaration import ACCOUNT, ELEVATION, FACTOR, GRANT, KEY, SETTING, SIGN_IN
from keymallet.core.facts.evidence import data_type, with_unread
from keymallet.core.facts.reading import Reading
from keymallet.sources.host.factors import factors_of, other_modules
from keymallet.sources.host.faillock import FailureTally, Policy, read_policy, read_tally, tally_folder
from keymallet.sources.host.files import HostFiles
from keymallet.sources.host.groups import HostGroups
from keymallet.sources.host.known import Known
from keymallet.sources.host.lines import (
    DroppedError,
    GroupEntry,
    PasswdEntry,
    comment_count,
    odd_passwd,
    odd_shadow,
    parse_group,
    parse_passwd,
    parse_shadow,
    records,
)
from keymallet.sources.host.pam import read_stacks
from keymallet.sources.host.release import host_name, pam_rule, zone
from keymallet.sources.host.settings import read_login_defs, settings_of
from keymallet.sources.host.sign_ins import EVENTS, SignIns, read_sign_ins
from keymallet.sources.host.ssh_keys import KeyReader
from keymallet.sources.host.sshd import read_server
from keymallet.sources.host.sudo_grants import Account, Grants
from keymallet.sources.host.sudo_log import ELEVATIONS
from keymallet.sources.host.sudoers import read_sudoers
from keymallet.sources.request import Request
from keymallet.sources.sections import HostSection
from keymallet.sources.shared.ageing import ShadowEntry
from keymallet.sources.shared.no_notion import rights_have_no_end
from keymallet.sources.shared.row_tables import enter_table

_Entry = TypeVar("_Entry", PasswdEntry, ShadowEntry, GroupEntry)
_NOBODY = 65534
_ODD = {"etc/passwd": odd_passwd, "etc/shadow": odd_shadow}
MOST_ODD = 20
"""How many odd lines of a file, or shared user ids, are told one by one."""

_KEY_FACTS = "account key kind starts expires state algorithm bits digest scope label stands-at".split()
_FACTOR_FACTS = "account kind amr registered last-used state label".split()
_GRANT_FACTS = "account role privileged mode via scope asks-proof starts ends stands-at".split()


@dataclass
class HostReader:
    """Reads the account files of one host, in the order in which one rests on another."""

    section: HostSection
    request: Request
    source: str
    folder: str
    result: Reading = field(init=False)
    files: HostFiles = field(init=False)
    _odd: Counter[str] = field(default_factory=Counter)

    def __post_init__(self) -> None:
        self.result = Reading(self.source)
        self.files = HostFiles(self.request, self.folder, self.result)

    def reading(self) -> Reading:
        """Read all files of the host and give its tables, what they supply, and notes on what was not read.

        A file that is not there is not supplied; one that cannot be understood is noted, and what would have
        followed from it is unknown.
        """
        files = self.files
        self.result.table_intake("account")
        named = self._named("etc/passwd", parse_passwd, "a second line for this name: the first counts")
        if named is None:
            return self._failed("etc/passwd")
        accounts = named
        shadow = self._named("etc/shadow", parse_shadow, "a second line for this name: the first counts")
        groups = self._named("etc/group", parse_group, "a second line for this group: the first counts")
        pam, why = pam_rule(files, self.section.pam)
        clock, where = zone(files, self.request.clock.key)
        host = Known(
            pam=pam,
            stacks=read_stacks(files),
            defs=read_login_defs(files),
            server=read_server(files),
            sign_ins=read_sign_ins(
                files, {account.name: account.uid for account in accounts.values()}, clock, self.request.at
            ),
            shadow=shadow,
            groups=groups,
        )
        host.locks = read_policy(files, host.stacks)
        host.tallies = self._tallies(host.locks, accounts, host.member_of)
        files.remark(f"{self.folder}: password ageing judged by the rule of PAM {pam}: {why}")
        if where != "etc/timezone":
            files.remark(f"{self.folder}: local times read in {clock}: {where}")
        rows = self._accounts(host, accounts)
        self._keys(host, accounts, rows, ZoneInfo(clock))
        self._grants(host, accounts, clock)
        self._settings(host)
        self._events(host.sign_ins)
        self._elevations(host.sign_ins, accounts)
        self._remark_files(host, accounts)
        if unread := self.files.collected.unread:
            names = some_names(list(unread), 8)
            self.result.incomplete.append(f"{self.folder}: the collect script could not read {names}")
        rights_have_no_end(self.result)
        return self.result

    def _failed(self, path: str) -> Reading:
        """The host as not read: without this file nobody is known, and nobody is gone."""
        why = self.files.unread.get(path, "it is not there")
        return Reading.not_read(
            self.source, fail(f"cannot be read: {why}", file=self.files.shown(path)).problems
        )

    # the account files

    def _named(self, path: str, parse: Callable[[str], _Entry], repeated: str) -> dict[str, _Entry] | None:
        """Entries of a file by name. Lines the system drops are refused, with their number."""
        data = self.files.bytes_of(path)
        if data is None:
            if path not in self.files.unread:
                self.files.remark(f"{self.files.shown(path)} is not there: what it would tell is unknown")
            return None
        by_name: dict[str, _Entry] = {}
        odd = _ODD.get(path)
        for line in records(data):
            try:
                entry = parse(line.text)
                if entry.name in by_name:
                    raise DroppedError(repeated)
                by_name[entry.name] = entry
                if odd is not None and (reading := odd(line.text)):
                    self._remark_odd(path, line.number, reading)
            except DroppedError as dropped:
                self.files.refuse("account", path, line.number, str(dropped))
        comments = comment_count(data)
        if comments:
            self.files.remark(f"{self.files.shown(path)}: {comments} comment lines passed over")
        return by_name

    def _remark_odd(self, path: str, number: int, reading: str) -> None:
        """Note how the system reads a line that it takes in spite of its looks."""
        self._odd[path] += 1
        if self._odd[path] <= MOST_ODD:
            self.files.remark(f"{self.files.shown(path)} line {number}: taken as it is: {reading}")
        elif self._odd[path] == MOST_ODD + 1:
            self.files.remark(f"{self.files.shown(path)}: more such lines are taken as well")

    def _tallies(
        self, policy: Policy | None, accounts: dict[str, PasswdEntry], groups: HostGroups
    ) -> dict[str, FailureTally] | None:
        """What the failures of each account come to; None if the tallies were not brought along."""
        if policy is None:
            return {name: FailureTally() for name in accounts}
        folder = tally_folder(self.files, policy)
        if folder is None:
            return None
        tallies = {name: FailureTally() for name in accounts}
        strangers = []
        for name in self.files.names(folder):
            entry = accounts.get(name)
            data = self.files.bytes_of(f"{folder}/{name}")
            if data is None:
                continue
            if entry is None:
                strangers.append(name)
                continue
            if len(data) % 64:
                self.files.refuse(
                    "account", f"{folder}/{name}", 0, "the last record is cut off and does not count"
                )
            administrates = bool(policy.admin_group) and policy.admin_group in groups.of(entry)
            tallies[name] = read_tally(data, policy, root=entry.uid == 0 or administrates, at=self.request.at)
        if strangers:
            self.files.remark(
                f"{self.files.shown(folder)}: tallies of no account: {some_names(strangers, 8)}"
            )
        return tallies

    def _accounts(self, host: Known, accounts: dict[str, PasswdEntry]) -> list[dict[str, Any]]:
        first_person = self._first_person_id(host.defs)
        supply = host.supply(self.folder)
        rows = []
        for entry in accounts.values():
            shell_runs = self.files.runs(entry.shell or "/bin/sh")
            row = self._of_passwd(entry, first_person) | host.facts(entry, self.request.at, shell_runs)
            rows.append(row)
        enter_table(self.result, ACCOUNT, rows, supply)
        return rows

    def _first_person_id(self, defs: dict[str, str] | None) -> int:
        """UID_MIN of login.defs, else 1000: accounts below are the system's own."""
        least = (defs or {}).get("UID_MIN", "")
        return int(least) if least.isascii() and least.isdigit() and len(least) < 11 else 1000

    def _of_passwd(self, entry: PasswdEntry, first_person: int) -> dict[str, Any]:
        kinds = self.section.kinds.items()
        by = next(((pattern, kind) for pattern, kind in kinds if fnmatchcase(entry.name, pattern)), None)
        pattern, kind = by or ("", None)
        # Root is root by whatever name; of the others below, the estate may have named some: "*" names none.
        is_named = pattern.strip("*") != "" and entry.uid != 0
        if not is_named and (entry.uid < first_person or entry.uid == _NOBODY):
            kind = "system"
        return {
            "name": entry.name,
            "display": entry.display or None,
            "stable-id": str(entry.uid),
            "kind": kind,
            "interactive": entry.is_interactive,
        }

    # what stands beside the accounts

    def _keys(
        self, host: Known, accounts: dict[str, PasswdEntry], known: list[dict[str, Any]], clock: ZoneInfo
    ) -> None:
        reader = KeyReader(self.files, host.server, clock, host.sign_ins.logged, host.doors_of)
        rows = reader.rows(list(accounts.values()))
        if rows is None:
            self.files.remark(f"{self.folder}: no homes came along: what keys open an account is unknown")
            return
        supply = dict.fromkeys(_KEY_FACTS, f"{self.folder}, authorized_keys and certificates in homes")
        if host.sign_ins.logged is not None:
            supply["last-used"] = f"{self.folder}/var/log, the sign-in log"
        enter_table(self.result, KEY, rows, supply, sum("key" in row for row in rows))
        others = other_modules(host.stacks) if host.stacks is not None else []
        if others:
            reason = "may ask for more than a password: which factors there are is unknown"
            self.files.remark(f"{self.folder}/etc/pam.d: {some_names(others, 8)} {reason}")
        elif host.shadow is not None:
            origin = f"{self.folder}/etc/shadow and the keys"
            enter_table(self.result, FACTOR, factors_of(known, rows), dict.fromkeys(_FACTOR_FACTS, origin))

    def _grants(self, host: Known, accounts: dict[str, PasswdEntry], clock: str) -> None:
        name = host_name(self.files)
        sudoers = read_sudoers(self.files, clock, name)
        if sudoers is None:
            return
        holders = [Account(entry.name, entry.uid, host.member_of.of(entry)) for entry in accounts.values()]
        grants = Grants(sudoers, name, holders)
        rows = []
        for entry, holder in zip(accounts.values(), holders, strict=True):
            held = grants.of(holder)
            groups = dict.fromkeys(row["via"] for row in held if row["via"].startswith("group "))
            falls = {
                via
                for via in groups
                if host.can_leave(entry, group := via.removeprefix("group "))
                and grants.fall_with(group, holder, held)
            }
            rows += [row | {"stands-at": row["via"] if row["via"] in falls else None} for row in held]
        for remark in sorted(grants.remarks):
            self.files.remark(f"{self.folder}: {remark}")
        enter_table(
            self.result,
            GRANT,
            rows,
            dict.fromkeys(_GRANT_FACTS, f"{self.folder}/etc/sudoers, what it includes"),
        )

    def _settings(self, host: Known) -> None:
        row, supply = settings_of(self.files, host.stacks, host.defs, host.locks_in_force, host.server)
        if len(supply) > 2:
            enter_table(self.result, SETTING, [row], supply)

    def _events(self, sign_ins: SignIns) -> None:
        if sign_ins.events is None:
            return
        schema = {column.name: data_type(column) for column in SIGN_IN.columns if column.name in EVENTS}
        self.result.tables["sign-in"] = sign_ins.events.cast(schema)  # type: ignore[arg-type]
        self.result.supply["sign-in"] = dict.fromkeys(EVENTS, f"{self.folder}/var/log")
        self.result.table_intake("sign-in").read += sign_ins.events.height

    def _elevations(self, sign_ins: SignIns, accounts: dict[str, PasswdEntry]) -> None:
        if sign_ins.logged is None:
            return
        is_known = pl.col("account").is_in(list(accounts))
        found = sign_ins.logged.elevations.filter(is_known)
        strangers = sign_ins.logged.elevations.filter(~is_known)["account"].unique(maintain_order=True)
        if len(strangers):
            self.files.remark(
                f"{self.folder}/var/log: sudo used by no account here: {some_names(strangers, 8)}"
            )
        schema = {column.name: data_type(column) for column in ELEVATION.columns if column.name in ELEVATIONS}
        rows = found.select(ELEVATIONS).cast(schema)  # type: ignore[arg-type]
        untold = dict.fromkeys(("ends", "closed"), found["open-ended"])
        self.result.tables["elevation"] = with_unread(rows, untold)
        self.result.supply["elevation"] = dict.fromkeys(ELEVATIONS, f"{self.folder}/var/log, what sudo wrote")
        self.result.table_intake("elevation").read += found.height

    # what is odd

    def _remark_files(self, host: Known, accounts: dict[str, PasswdEntry]) -> None:
        remark, shadow = self.files.remark, host.shadow
        if shadow is not None:
            strangers = [name for name in shadow if name not in accounts]
            if strangers:
                remark(f"{self.folder}/etc/shadow: no account in passwd for {some_names(strangers, 8)}")
            bare = [
                account.name
                for account in accounts.values()
                if account.password == "x" and account.name not in shadow
            ]
            if bare:
                remark(f"{self.folder}/etc/shadow: no line for {some_names(bare, 8)}; nothing lets them in")
        own = [account.name for account in accounts.values() if account.password != "x"]
        if own:
            remark(
                f"{self.folder}/etc/passwd: a password of its own for {some_names(own, 8)}: ageing is ignored"
            )
        holders: dict[int, list[str]] = defaultdict(list)
        for account in accounts.values():
            holders[account.uid].append(account.name)
        shared = [(uid, names) for uid, names in holders.items() if len(names) > 1]
        for uid, names in shared[:MOST_ODD]:
            remark(f"{self.folder}/etc/passwd: {some_names(names, 8)} share user id {uid}")
        if len(shared) > MOST_ODD:
            remark(f"{self.folder}/etc/passwd: {len(shared) - MOST_ODD:,} more user ids are shared")
        if host.groups is not None and self.files.is_there("etc/gshadow"):
            self._compare_members(host.groups)
        if host.server is not None and not host.server.uses_pam:
            remark(
                f"{self.folder}/etc/ssh/sshd_config: UsePAM no: sshd judges locks and ends by its own rules"
            )
        unclear = sum(row is None for row in self.result.tables["account"]["kind"])
        if unclear:
            hint = 'kinds = { "svc-*" = "service", "*" = "person" } in the estate would tell'
            remark(f"{self.folder}: {unclear} accounts of unknown kind; {hint}")

    def _compare_members(self, groups: dict[str, GroupEntry]) -> None:
        """gshadow repeats the members of each group; where it differs, somebody edited one by hand."""
        differing = []
        for line in records(self.files.bytes_of("etc/gshadow") or b""):
            fields = line.text.split(":")
            members = {name for name in fields[3].split(",") if name} if len(fields) == 4 else set()
            if len(fields) == 4 and fields[0] in groups and members != set(groups[fields[0]].members):
                differing.append(fields[0])
        if differing:
            shown = some_names(differing, 8)
            self.files.remark(f"{self.folder}/etc/gshadow: other members than in group for {shown}")
