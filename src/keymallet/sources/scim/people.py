"""SCIM users as people: the roster of an organisation that keeps its staff in such a service.

Employee number, name, mail, department and manager are where RFC 7643 puts them. `active` is whether
somebody works there; what the standard has no attribute for is read by its path, as the estate maps it.
"""

from __future__ import annotations

from datetime import date, datetime, timedelta
from typing import Any

import polars as pl

from keymallet.core.facts.declaration import PERSON
from keymallet.core.facts.evidence import UNREAD, data_type
from keymallet.core.facts.model import Column, Kind
from keymallet.core.facts.reading import Reading, Refusal
from keymallet.sources.request import Request
from keymallet.sources.scim.service import Resource
from keymallet.sources.scim.spelling import ENTERPRISE
from keymallet.sources.scim.values import UnreadableError, at_path, converted, primary, referred_to
from keymallet.sources.sections import ScimSection

_IDENT, _MANAGER = "id", "manager-id"


class Staff:
    """Takes users page by page as people, and enters them into a reading at the end."""

    def __init__(self, section: ScimSection, request: Request, reading: Reading) -> None:
        self.section = section
        self.clock = request.clock
        self.reading = reading
        self.supply = {"person": "employeeNumber"}
        self._rows: list[dict[str, Any]] = []
        self._numbers: set[str] = set()

    @property
    def has_users(self) -> bool:
        """Whether any user came, readable or not."""
        return bool(self._numbers or self.reading.table_intake("person").refused)

    def add(self, users: list[Resource]) -> None:
        """Take a page of users."""
        for user in users:
            company = _object(user.get(ENTERPRISE))
            number = str(company.get("employeeNumber") or "").strip()
            if "person" in self.section.facts:
                number = str(at_path(user, self.section.facts["person"]) or "").strip()
            shown = str(user.get("userName") or user.get("id"))[:60]
            if not number:
                self._refuse(f"user {shown}: no employeeNumber")
            elif number in self._numbers:
                self._refuse(f"user {shown}: a second person of number {number[:30]}")
            else:
                self._numbers.add(number)
                self._rows.append(self._row(number, user, company))

    def _row(self, number: str, user: Resource, company: dict[str, Any]) -> dict[str, Any]:
        row: dict[str, Any] = {"person": number, _IDENT: str(user.get("id") or ""), UNREAD: []}
        self._take(
            row, "name", user.get("displayName") or _object(user.get("name")).get("formatted"), "displayName"
        )
        self._take(row, "mail", primary(user.get("emails")), "emails")
        self._take(row, "unit", company.get("department") or company.get("division"), "department")
        self._take(row, "manager", referred_to(company.get("manager")) or None, "manager")
        row[_MANAGER] = row.get("manager")
        if isinstance(user.get("active"), bool):
            self._take(row, "status", "present" if user["active"] else "left", "active")
        user_type = user.get("userType")
        if isinstance(user_type, str) and user_type in self.section.contracts:
            self._take(row, "contract", self.section.contracts[user_type], "userType")
        for fact, path in self.section.facts.items():
            if fact != "person":
                self._take(row, fact, at_path(user, path), path)
        if not row[UNREAD]:
            row[UNREAD] = None
        return row

    def _take(self, row: dict[str, Any], fact: str, value: Any, where: str) -> None:
        """Enter a fact, if there is a value and it is of the fact's kind."""
        if value is None:
            return
        column = PERSON.column(fact)
        assert column is not None
        self.supply.setdefault(fact, where)
        try:
            row[fact] = self._day(column, value) if column.kind is Kind.INSTANT else converted(column, value)
        except UnreadableError as error:
            row[UNREAD].append(fact)
            refusal = Refusal(self.section.url, 0, f"{row['person'][:30]}: {error}", fact)
            self.reading.table_intake("person").cannot_read(1, [refusal])

    def _day(self, column: Column, value: Any) -> datetime:
        """An instant, or a plain day: its beginning, or for a last day that still counts, its end.

        Raises UnreadableError.
        """
        try:
            day = date.fromisoformat(value) if isinstance(value, str) and len(value) == 10 else None
        except ValueError:
            day = None
        if day is None:
            instant: datetime = converted(column, value)
            return instant
        if column.closes and not self.section.plain:
            raise UnreadableError(f"{value!r} is a plain day: does it still count? plain in the estate tells")
        if column.closes and self.section.plain == "through":
            day += timedelta(days=1)
        return datetime(day.year, day.month, day.day, tzinfo=self.clock)

    def enter(self) -> None:
        """Enter everybody who came; a manager who is one of them, by number."""
        schema: dict[str, Any] = {column.name: data_type(column) for column in PERSON.columns}
        schema |= {UNREAD: pl.List(pl.String), _IDENT: pl.String, _MANAGER: pl.String}
        whole = pl.DataFrame(self._rows, schema=schema)
        known = whole.select(pl.col(_IDENT).alias(_MANAGER), boss="person").filter(pl.col(_MANAGER) != "")
        people = whole.join(known.unique(_MANAGER), on=_MANAGER, how="left", maintain_order="left")
        people = people.with_columns(pl.coalesce("boss", "manager").alias("manager"))
        unread = [UNREAD] if whole[UNREAD].null_count() < whole.height else []
        names = [name for name in PERSON.names if name in self.supply]
        self.reading.tables["person"] = people.select(*names, *unread)
        self.reading.tables["account"] = pl.DataFrame(schema={"name": pl.String})
        self.reading.supply["person"] = self.supply
        self.reading.table_intake("person").read += people.height

    def _refuse(self, reason: str) -> None:
        self.reading.table_intake("person").refuse(Refusal(self.section.url, 0, reason))


def _object(value: Any) -> dict[str, Any]:
    return value if isinstance(value, dict) else {}
