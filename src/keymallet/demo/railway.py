"""Writes the railway's estate: exports, hosts, maps, rulebook, and what has to be found in them."""

from __future__ import annotations

from importlib.resources import files
from pathlib import Path

from keymallet.demo.accounts import Account, railway_directory
from keymallet.demo.cloud import CloudUser, cloud_export, cloud_users
from keymallet.demo.exports import directory_exports, to_csv
from keymallet.demo.gates import Gate, plant_devices, plant_gates
from keymallet.demo.hosts import Host, ticketing_hosts
from keymallet.demo.locks import plant_locks
from keymallet.demo.openings import of_opening, plant_openings
from keymallet.demo.passes import plant_ends, plant_passes
from keymallet.demo.passwords import plant_passwords
from keymallet.demo.people import Person, organisation, staff_list
from keymallet.demo.sign_ins import plant_sign_ins

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
    plant_passwords(accounts)
    plant_passes(accounts)
    plant_ends(accounts)
    openings = plant_openings(accounts)
    of_opening(accounts, openings)
    plant_locks(accounts)
    sign_ins = plant_sign_ins(accounts, openings)
    people = [
        (account.login, account.name)
        for account in accounts
        if account.account_type == "Staff" and account.enabled
    ]
    hosts = ticketing_hosts(people[100:124], people[124])
    for name in _FILES:
        _write(folder / name, files("keymallet.demo").joinpath(f"estate/{name}").read_text("utf-8"))
    exports = directory_exports(accounts, gates, openings, sign_ins)
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
        to_csv(
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
    "exceptions.csv",
    "exceptions-map.toml",
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


def _ground_truth(
    accounts: list[Account],
    hosts: list[Host],
    people: list[Person],
    users: list[CloudUser],
    gates: list[Gate],
) -> list[tuple[str, str, str, str]]:
    planted_row = [
        (rule, f"directory/{account.login}", subject)
        for account in accounts
        for rule, subject in account.causes
    ]
    planted_row += [
        (rule, f"ticketing/{host.name}/{name}".rstrip("/"), subject)
        for host in hosts
        for rule, name, subject in host.causes
    ]
    planted_row += [(rule, "directory", subject) for gate in gates for rule, subject in gate.causes]
    planted_row += [(rule, "staff", subject) for person in people for rule, subject in person.causes]
    planted_row += [(rule, f"cloud/{user.login}", subject) for user in users for rule, subject in user.causes]
    planted_row.append(("emergency-accounts", "", ""))  # two, where three are asked for
    planted_row += [(rule, "register", entry) for rule, entry in _OF_REGISTER]
    planted_row += [(f"setting-{what}", "directory", "Emergency") for what in ("lockout-window", "session")]
    planted_row.append(("user-administrators", "", ""))
    return sorted((*planted, "exempt" if _is_exempt(*planted) else "breach") for planted in planted_row)


def _is_exempt(rule: str, account: str, subject: str) -> bool:
    """Whether the register covers it: the tills, and the emergency account that no gate asks."""
    covered = account.startswith("directory/counter-") or account == "directory/emergency-1"
    return rule == "second-factor-asked" and covered
