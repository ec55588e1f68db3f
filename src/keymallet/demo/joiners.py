"""A batch of forty accounts for the winter season, and what is wrong with which of them.

Fifteen rows are in good order. In each of the others one thing is planted, or one that shows in two rows.
"""

from __future__ import annotations

import random
import string
from collections.abc import Iterator
from dataclasses import dataclass, field, replace
from datetime import date, timedelta

from keymallet.demo.model import Model
from keymallet.demo.weeks import LAST, instant_of

TODAY = instant_of(LAST).date()
HEADER = (
    *("Login", "Name", "Mail", "Staff no", "Type", "Unit", "Job", "Reports to", "Owner"),
    *(
        "First day",
        "Last day",
        "Status",
        "Groups",
        "Role",
        "First password",
        "Change at first sign-in",
        "Sent",
    ),
)
_SIGNS = string.ascii_lowercase + string.ascii_uppercase + string.digits + "!#%+-=?"
_GUESTS = (
    "Ada Kofler,Beat Enzner,Cilla Rastner,Dino Lercher,Edda Plattner,Fabio Senn,Gerda Tschurt,Hugo Innerhof,"
    "Ilse Moser,Jan Kerschb,Kuno Ladurn,Lea Oberegg,Mirko Prugg,Nora Rungg,Oskar Stecher,Pia Unterholz,"
    "Rolf Verdorf,Sina Wieser,Toni Zingerl,Uta Alber,Vito Bachl,Wilma Corrad,Xaver Dorf,Yara Egger,Zeno Flor,"
    "Arno Gamper,Bruna Hofer,Carlo Iser,Dora Jenal,Egon Kuen,Flora Lanz,Gitta Marth,Horst Nigg"
).split(",")


@dataclass
class Joiner:
    """A row of joiners.csv, and the rules that it has to break."""

    login: str
    name: str
    mail: str
    password: str
    staff_no: str = ""
    kind: str = "Guest"
    unit: str = "Stations"
    job: str = "Winter help"
    manager: str = "10002"
    owner: str = ""
    starts: date | None = TODAY + timedelta(days=4)
    ends: date | None = TODAY + timedelta(days=120)
    status: str = "Active"
    groups: str = "outside,contractors"
    role: str = ""
    change: str = "yes"
    sent: str = "by post"
    breaks: list[str] = field(default_factory=list)

    def cells(self) -> tuple[str, ...]:
        """The row as it stands in the file."""
        days = (f"{day:%d.%m.%Y}" if day else "-" for day in (self.starts, self.ends))
        whose = (self.staff_no or "-", self.kind, self.unit, self.job, self.manager or "-", self.owner or "-")
        last = (self.status, self.groups, self.role, self.password, self.change, self.sent)
        return (self.login, self.name, self.mail, *whose, *days, *last)


def joiners(model: Model) -> list[Joiner]:
    """The rows, in the order of the file."""
    chance = random.Random(40)
    rows = [_guest(name, chance) for name in _GUESTS]
    ready, faulty = rows[:13], rows[13:]
    mistakes = _mistakes(model)
    for row, (rules, change) in zip(faulty, mistakes, strict=False):
        for fact, value in change.items():
            setattr(row, fact, value)
        row.breaks += rules
    return [*ready, *_staff(model, chance), *faulty, *_of_machines(chance)]


def _guest(name: str, chance: random.Random) -> Joiner:
    first, last = name.lower().split()
    login = f"{first[0]}.{last}"
    return Joiner(login, name, f"{login}@gvr.example", _password(chance))


def _password(chance: random.Random, length: int = 16) -> str:
    while True:
        made = "".join(chance.choice(_SIGNS) for _ in range(length))
        classes = (any(map(str.islower, made)), any(map(str.isupper, made)), any(map(str.isdigit, made)))
        if all(classes):
            return made


def _mistakes(model: Model) -> Iterator[tuple[list[str], dict[str, object]]]:
    """The rules that a row breaks, and what is changed in it for that."""
    somebody = model.account("d.murmleitner")
    yield ["new-name-free"], {"login": somebody.login}
    yield ["new-name-not-reused"], {"login": "guest-survey-1"}
    yield ["new-name-by-pattern"], {"login": "WinterHelp7"}
    yield ["new-mail-free"], {"mail": f"{somebody.login}@gvr.example"}
    yield ["new-letters-whole"], {"name": "Pia Unterh\u00c3\u00b6lz"}
    yield ["new-required"], {"mail": ""}
    yield ["new-taken-as-written", "new-name-by-pattern"], {"login": "r.verdorf-von-der-hohen-brücke"}
    yield ["new-starts-not-past"], {"starts": TODAY - timedelta(days=27)}
    yield ["new-starts-soon", "new-off-until-start"], {"starts": TODAY + timedelta(days=100)}
    yield ["new-ends-after-start"], {"ends": TODAY + timedelta(days=3)}
    yield ["new-temporary-ends"], {"ends": None}
    yield ["new-unit-known"], {"unit": "Statoins"}
    yield ["new-manager-known"], {"manager": "10999"}
    yield ["new-no-power"], {"role": "User administrator"}
    yield ["new-groups-exist", "new-groups-not-more"], {"groups": "outside,contractors,winter-huts"}
    yield ["new-groups-given"], {"groups": ""}
    weak = ["first-password-not-guessable", "first-password-long-enough", "first-password-strong"]
    yield weak, {"password": "Winter2026!"}
    yield ["first-password-not-guessable", "first-password-no-pattern"], {"password": "Alpenpass-0412-Xy"}
    yield ["first-password-not-guessable", "first-password-no-pattern"], {"password": "Alpenpass-0413-Xy"}
    yield ["first-password-changed"], {"change": "no"}


def _staff(model: Model, chance: random.Random) -> list[Joiner]:
    """People of the staff list who have no account yet, one of them twice; and two who are not for one."""
    rows = []
    for name in ("Ylva Karwald", "Tore Enzacher", "Runa Kessel"):
        person = next(person for person in model.staff if person.name == name)
        row = _guest(name, chance)
        starts = max(TODAY + timedelta(days=2), person.joins)
        row = replace(row, staff_no=person.number, kind="Staff", job="Station hand", status="Disabled")
        rows.append(replace(row, starts=starts, ends=None, groups="all-staff,unit-stations"))
    nobody = replace(rows[0], login="y.karwaldt", mail="y.karwaldt@gvr.example", password=_password(chance))
    nobody = replace(nobody, name="Ylvi Karwaldt", staff_no="19999", breaks=["new-person-on-roster"])
    again = replace(
        rows[1], login="t.enzacher-b", mail="t.enzacher-b@gvr.example", password=_password(chance)
    )
    for row in (rows[1], again):
        row.breaks = ["new-person-once"]
    return [*rows, again, nobody]


def _of_machines(chance: random.Random) -> list[Joiner]:
    """An account of a machine that nobody answers for; and a counter's that shares its password with it."""
    shared = _password(chance, 26)
    machine = Joiner(
        "svc-lift-1", "Service lift-1", "svc-lift-1@gvr.example", shared, kind="Service", job="-"
    )
    machine = replace(machine, manager="", starts=TODAY, ends=None, groups="machines", change="no")
    counter = replace(machine, login="svc-lift-2", name="Service lift-2", mail="svc-lift-2@gvr.example")
    counter = replace(counter, owner="10002", sent="with the login")
    counter.breaks = ["first-password-own", "first-password-apart"]
    machine.breaks = ["first-password-own", "new-owner"]
    return [machine, counter]


def truth(rows: list[Joiner]) -> list[tuple[str, str, str]]:
    """What has to be found: line, login and rule."""
    return [(str(line), row.login, rule) for line, row in enumerate(rows, 2) for rule in sorted(row.breaks)]
