"""Writes the railway's estate: exports, hosts, maps, rulebook, and what has to be found in them."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable, Sequence
from datetime import datetime
from importlib.resources import files
from pathlib import Path
from zoneinfo import ZoneInfo

from keymallet.demo.accounts import Account, railway_directory
from keymallet.demo.cloud import CloudUser, cloud_export, cloud_users
from keymallet.demo.gates import Gate, plant_devices, plant_gates
from keymallet.demo.hosts import Host, ticketing_hosts
from keymallet.demo.people import Person, organisation, staff_list

_CLOCK = ZoneInfo("Europe/Zurich")
_RAGGED = (
    "w.weichselbaum;b7c1;Weichselbaum; Wim;w.weichselbaum@gvr.example;10999\r\n",
    "this line was cut off by the exp\r\n",
)
_BROKEN_SHADOW = "oldtill:$6$\n"
REFUSED = {"directory": 2, "ticketing/tix-2": 1, "ticketing/tix-3": 1}
"""Records that cannot be read, by source: they are there so that one sees how that is told."""


def write_estate(folder: Path) -> None:
    """Write all files of the estate below `folder`."""
    railway = railway_directory()
    staff = organisation(railway)
    accounts = railway.accounts
    users = cloud_users(accounts)
    gates = plant_gates(accounts)
    plant_devices(accounts)
    people = [
        (account.login, account.name)
        for account in accounts
        if account.account_type == "Staff" and account.enabled
    ]
    hosts = ticketing_hosts(people[100:124], people[124])
    for name in _FILES:
        _write(folder / name, files("keymallet.demo").joinpath(f"estate/{name}").read_text("utf-8"))
    exports = {**_exports(accounts), "gates.csv": _gates(gates)}
    for name, text in exports.items():
        _write(folder / "exports" / name, text, "utf-8-sig")
    _write(folder / "exports/staff.jsonl", staff_list(staff))
    _write(folder / "exports/cloud.json", cloud_export(users))
    for host in hosts:
        for path, content in host.files().items():
            _write(folder / "hosts" / host.name / path, content)
    with (folder / "hosts/tix-2/etc/shadow").open("a", encoding="utf-8", newline="") as shadow:
        shadow.write(_BROKEN_SHADOW)
    _write(
        folder / "ground-truth.csv",
        _csv(
            ("rule", "account", "subject", "verdict"),
            _ground_truth(accounts, hosts, staff, users, gates),
            ",",
        ),
    )


_FILES = (
    "estate.toml",
    "directory.toml",
    "staff.toml",
    "cloud.toml",
    "rulebook.toml",
    "rulebook.cases.toml",
    "exemptions.toml",
)
_OF_REGISTER = (
    ("exemption-has-end", "old-till"),
    ("exemption-reviewed", "old-till"),
    ("exemption-approved-by-another", "old-till"),
    ("exemption-names-somebody", "old-till"),
    ("exemption-needed", "old-till"),
    ("exemption-needed", "back-from-leave"),
    ("exemption-over", "guests-autumn"),
    ("exemption-reason", "guests-autumn"),
    ("exemption-no-broader", "counter-tills"),
)
"""The findings that entries of the register have to cause."""


def _write(path: Path, content: str | bytes, encoding: str = "utf-8") -> None:
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_bytes(content if isinstance(content, bytes) else content.encode(encoding))


def _exports(accounts: list[Account]) -> dict[str, str]:
    return {
        "accounts.csv": _with_ragged_lines(_csv(_ACCOUNT_HEADER, map(_account_line, accounts))),
        "factors.csv": _csv(
            ("Login", "Method", "Enrolled", "Last used", "State", "Label", "Device"),
            (
                (
                    account.login,
                    each.method,
                    _time(each.enrolled),
                    _time(each.last_used),
                    each.state,
                    each.label,
                    each.device,
                )
                for account in accounts
                for each in account.factors
            ),
        ),
        "keys.csv": _csv(
            ("Login", "Key id", "Issued", "Last used", "State", "Scope"),
            (
                (account.login, each.key, _time(each.issued), _time(each.last_used), each.state, each.scope)
                for account in accounts
                for each in account.keys
            ),
        ),
        "roles.csv": _csv(
            ("Login", "Role", "Privileged", "Held", "Through", "Given by"),
            (
                (account.login, each.role, _yes(each.privileged), each.held, each.through, "service desk")
                for account in accounts
                for each in account.roles
            ),
        ),
    }


def _gates(gates: list[Gate]) -> str:
    return _csv(
        ("Gate", "State", "Asks for", "Covers", "Leaves out"),
        ((each.name, each.state, each.asks_for, ",".join(each.covers), ",".join(each.leaves_out))
         for each in gates),
    )  # fmt: skip


_ACCOUNT_HEADER = (
    "Login",
    "Object id",
    "Name",
    "Mail",
    "Staff no",
    "Account type",
    "Unit",
    "Job",
    "Reports to",
    "Cost centre",
    "Status",
    "Console",
    "Created",
    "Valid to",
    "Last sign-in",
    "Password",
    "Password set",
    "Password expires",
    "Handed-out password",
    "Locked",
    "Locked until",
    "Failed",
    "Tags",
    "Groups",
)


def _account_line(account: Account) -> Sequence[str]:
    return (
        account.login,
        account.object_id,
        account.name,
        f"{account.login}@gvr.example",
        account.staff_no,
        account.account_type,
        account.unit,
        account.job or "-",
        account.manager or "-",
        str(4000 + len(account.unit)),
        "Active" if account.enabled else "Disabled",
        _yes(account.console),
        _day(account.created),
        _day(account.valid_to),
        f"{account.last_sign_in:%Y-%m-%dT%H:%M:%SZ}" if account.last_sign_in else "-",
        _yes(account.password_set is not None),
        _time(account.password_set),
        "Never" if account.never_expires else "By policy",
        _yes(account.handed_out),
        _yes(account.locked),
        _time(account.locked_until),
        str(account.failed),
        ",".join(account.tags),
        ",".join(account.groups),
    )


def _with_ragged_lines(text: str) -> str:
    lines = text.splitlines(keepends=True)
    for place, ragged in zip((17, 230), _RAGGED, strict=True):
        lines.insert(place, ragged)
    return "".join(lines)


def _csv(header: Sequence[str], rows: Iterable[Sequence[str]], separator: str = ";") -> str:
    text = io.StringIO()
    writer = csv.writer(text, delimiter=separator)
    writer.writerow(header)
    writer.writerows(rows)
    return text.getvalue()


def _yes(flag: bool) -> str:
    return "yes" if flag else "no"


def _day(instant: datetime | None) -> str:
    return f"{instant.astimezone(_CLOCK):%d.%m.%Y}" if instant else "-"


def _time(instant: datetime | None) -> str:
    return f"{instant.astimezone(_CLOCK):%d.%m.%Y %H:%M}" if instant else "-"


def _ground_truth(
    accounts: list[Account],
    hosts: list[Host],
    people: list[Person],
    users: list[CloudUser],
    gates: list[Gate],
) -> list[tuple[str, str, str, str]]:
    found = [
        (rule, f"directory/{account.login}", subject)
        for account in accounts
        for rule, subject in account.causes
    ]
    found += [
        (rule, f"ticketing/{host.name}/{name}".rstrip("/"), subject)
        for host in hosts
        for rule, name, subject in host.causes
    ]
    found += [(rule, "directory", subject) for gate in gates for rule, subject in gate.causes]
    found += [(rule, "staff", subject) for person in people for rule, subject in person.causes]
    found += [(rule, f"cloud/{user.login}", subject) for user in users for rule, subject in user.causes]
    found.append(("emergency-accounts", "", ""))  # two, where three are asked for
    found += [(rule, "register", entry) for rule, entry in _OF_REGISTER]
    return sorted((*each, "exempt" if _is_exempt(*each) else "breach") for each in found)


def _is_exempt(rule: str, account: str, subject: str) -> bool:
    """Whether the register covers it: the tills, and the emergency account that no gate asks."""
    covered = account.startswith("directory/counter-") or account == "directory/emergency-1"
    return rule == "second-factor-asked" and covered
