"""Changes of a directory as LDIF change records (RFC 2849), and the records that undo them.

Each takes away the very value that was found before it puts another: where that has changed meanwhile, the
directory refuses the record, whatever server it is.
"""

from __future__ import annotations

from collections.abc import Sequence

from ldap3.protocol.rfc2849 import operation_to_ldif

from keymallet.core.mending.forms import DEMANDS, SWITCHES, attributes, the_one_of
from keymallet.proposals.change import Change, one_line

HOW = "ldapmodify -c -f {file}, with your -H and -D"
ENDING = "ldif"
_ADD, _DELETE = 0, 1
_ACCOUNT_DISABLED = 2
"""The bit of userAccountControl."""
_OFF = {"pwdAccountLockedTime": "000001010000Z", "nsAccountLock": "true"}
_DEMANDED = {"pwdReset": "TRUE", "passwordExpirationTime": "19700101000000Z", "pwdLastSet": "0"}

Step = tuple[int, str, str]
"""A value added to an attribute, or taken from it."""


def write(changes: Sequence[Change], heading: Sequence[str]) -> tuple[str, str]:
    """The records of these changes in their order, and those that undo them, the last first."""
    forward = [_record(change, _steps(change)) for change in changes]
    back = [_record(change, _undone(_steps(change))) for change in reversed(changes)]
    head = ["version: 1", *(f"# {one_line(line)}" for line in heading), ""]
    undo = [*head[:-1], "# The way back: it undoes the changes, the last of them first.", ""]
    return "\n".join([*head, *forward]), "\n".join([*undo, *back])


def _steps(change: Change) -> list[Step]:
    if change.mend == "switch-off":
        name = the_one_of(SWITCHES, change.found)
        assert name is not None
        now = attributes(change.found)[name]
        return _replaced(name, now, _OFF.get(name) or str(int(now or 0) | _ACCOUNT_DISABLED))
    if change.mend == "change-password":
        name = the_one_of(DEMANDS, change.found)
        assert name is not None
        return _replaced(name, attributes(change.found)[name], _DEMANDED[name])
    pairs = (line.partition(": ") for line in change.found)
    return [(_DELETE, name, value) for name, _, value in pairs]


def _replaced(name: str, now: str | None, then: str) -> list[Step]:
    if now == then:
        return []
    return [*([(_DELETE, name, now)] if now is not None else []), (_ADD, name, then)]


def _undone(steps: list[Step]) -> list[Step]:
    """The same backwards. A password's time can be set to now or never: what it was cannot be put back."""
    turned = [(_DELETE if how == _ADD else _ADD, name, value) for how, name, value in reversed(steps)]
    return [
        (how, name, "-1" if name == "pwdLastSet" and how == _ADD else value) for how, name, value in turned
    ]


def _record(change: Change, steps: list[Step]) -> str:
    lines = [f"# {change.remark}", f"# {change.remark_of_findings}"]
    if not steps:
        return "\n".join([*lines, "# so already", ""])
    asked = [
        {"operation": how, "attribute": {"type": name, "value": [value.encode()]}}
        for how, name, value in steps
    ]
    record = {"entry": change.place, "controls": None, "changes": asked}
    return "\n".join([*lines, *operation_to_ldif("modifyRequest", record), ""])
