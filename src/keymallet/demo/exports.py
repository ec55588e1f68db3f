"""The files that the railway's directory writes: its separator, its dates, and two ragged lines."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable, Sequence
from datetime import datetime

from keymallet.demo.accounts import CLOCK, Account
from keymallet.demo.gates import Gate
from keymallet.demo.locks import SETTINGS
from keymallet.demo.openings import Opening
from keymallet.demo.sign_ins import SignIn

_RAGGED = (
    "w.weichselbaum;b7c1;Weichselbaum; Wim;w.weichselbaum@gvr.example;10999\r\n",
    "this line was cut off by the exp\r\n",
)


def directory_exports(
    accounts: list[Account], gates: list[Gate], openings: list[Opening], sign_ins: list[SignIn]
) -> dict[str, str]:
    """All files, by name."""
    return {
        **_exports(accounts),
        "gates.csv": _gates(gates),
        "openings.csv": _openings(openings),
        "sign-ins.csv": _sign_ins(sign_ins),
        "settings.csv": to_csv(SETTINGS[0], SETTINGS[1:]),
    }


def _exports(accounts: list[Account]) -> dict[str, str]:
    return {
        "accounts.csv": _with_ragged_lines(to_csv(_ACCOUNT_HEADER, map(_account_line, accounts))),
        "factors.csv": to_csv(
            ("Login", "Method", "Enrolled", "Last used", "State", "Label", "Device"),
            (
                (
                    account.login,
                    role.method,
                    _time(role.enrolled),
                    _time(role.last_used),
                    role.state,
                    role.label,
                    role.device,
                )
                for account in accounts
                for role in account.factors
            ),
        ),
        "keys.csv": to_csv(
            (
                "Login",
                "Key id",
                "Kind",
                "Issued",
                "Expires",
                "Last used",
                "State",
                "Uses left",
                "Replaced by",
                "Scope",
            ),
            (
                (
                    account.login,
                    role.key,
                    role.kind,
                    _time(role.issued),
                    _time(role.expires),
                    _time(role.last_used),
                    role.state,
                    "" if role.uses_left is None else str(role.uses_left),
                    role.replaced_by,
                    role.scope,
                )
                for account in accounts
                for role in account.keys
            ),
        ),
        "roles.csv": to_csv(
            ("Login", "Role", "Privileged", "Held", "Through", "Given by", "Until"),
            (
                (
                    account.login,
                    role.role,
                    _yes(role.privileged),
                    role.held,
                    role.through,
                    "service desk",
                    _time(role.until),
                )
                for account in accounts
                for role in account.roles
            ),
        ),
    }


def _sign_ins(sign_ins: list[SignIn]) -> str:
    return to_csv(
        ("Login", "At", "Result", "Why", "Proof", "From"),
        (
            (sign_in.login, f"{sign_in.at:%Y-%m-%dT%H:%M:%SZ}", "ok" if sign_in.succeeded else "failed",
             sign_in.cause,
             sign_in.proof, sign_in.origin)
            for sign_in in sign_ins
        ),
    )  # fmt: skip


def _openings(openings: list[Opening]) -> str:
    return to_csv(
        ("Login", "Opening", "Role", "Asked", "Approved by", "Reason", "Ticket", "From", "To", "Closed",
         "Proof", "Result"),
        (
            (opening.login, opening.number, opening.role, _time(opening.asked),
             opening.approver or "-", opening.reason, opening.ticket, _time(opening.starts),
             _time(opening.ends), _time(opening.closed), opening.proof, opening.outcome)
            for opening in openings
        ),
    )  # fmt: skip


def _gates(gates: list[Gate]) -> str:
    return to_csv(
        ("Gate", "State", "Asks for", "Covers", "Leaves out"),
        ((gate.name, gate.state, gate.asks_for, ",".join(gate.covers), ",".join(gate.leaves_out))
         for gate in gates),
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
    "Change asked",
    "Locked",
    "Locked since",
    "Locked by",
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
        _yes(account.must_change),
        _yes(account.locked),
        _time(account.locked_since),
        account.lock_cause or "-",
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


def to_csv(header: Sequence[str], rows: Iterable[Sequence[str]], separator: str = ";") -> str:
    """Lines with a header, as the directory writes them."""
    text = io.StringIO()
    writer = csv.writer(text, delimiter=separator)
    writer.writerow(header)
    writer.writerows(rows)
    return text.getvalue()


def _yes(flag: bool) -> str:
    return "yes" if flag else "no"


def _day(instant: datetime | None) -> str:
    return f"{instant.astimezone(CLOCK):%d.%m.%Y}" if instant else "-"


def _time(instant: datetime | None) -> str:
    return f"{instant.astimezone(CLOCK):%d.%m.%Y %H:%M}" if instant else "-"
