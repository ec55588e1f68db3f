"""What `fit` must never be sure of and wrong: exports it was not tuned on, and traps that were walked into."""

from __future__ import annotations

from collections import Counter
from datetime import UTC, datetime, timedelta
from pathlib import Path
from zoneinfo import ZoneInfo

import polars as pl
import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

from keymallet.core.base.problems import KeymalletError
from keymallet.fitting.dates import find_dates
from keymallet.fitting.encodings import find_encoding
from keymallet.fitting.guess import guess
from keymallet.fitting.map_text import map_text
from keymallet.fitting.matching import SURE, Asked, Match
from keymallet.fitting.sample import look_into, read_sample
from keymallet.fitting.trial import try_map
from keymallet.sources.export.instants import read_instants
from keymallet.sources.export.lengths import parse_length
from keymallet.sources.export.map_checks import read_column_map
from tests.fitting.unseen_exports import columns_of, exports, guessed
from tests.support import AT

LOGINS = "arven birk clemm dorn ebner falk gisin horn".split()


def export(**columns: object) -> bytes:
    """A CSV export with a login, and these columns: a list of values, or the same value in every row."""
    rows = [
        [
            login,
            *(
                value[place % len(value)] if isinstance(value, list) else str(value)
                for value in columns.values()
            ),
        ]
        for place, login in enumerate(LOGINS)
    ]
    return "\n".join(";".join(row) for row in [["Login", *columns], *rows]).encode()


def taken(data: bytes) -> dict[str, tuple[str, Match]]:
    """What each column was taken for, by its header; what a map only mentions is not taken."""
    found = guess(read_sample(data, "x.csv"), AT.date(), Asked())
    assert found is not None
    return {
        match.column.header if not match.of_member else part.rows: (
            f"{part.table.name}.{match.fact.name}",
            match,
        )
        for part in found.parts
        for match in part.matches
        if part.uses(match) and not (match.fact.name == "account" and part.rows)
    }


def read_back(data: bytes, tmp_path: Path) -> pl.DataFrame:
    """The accounts, as the map that was guessed reads them."""
    (tmp_path / "x.csv").write_bytes(data)
    found = guess(read_sample(data, "x.csv"), AT.date(), Asked())
    assert found is not None
    text = map_text(found, today=AT.date(), clock="UTC")
    return try_map(text, tmp_path / "x.csv", "csv", ZoneInfo("UTC"), AT).tables["account"]


def test_exports_it_was_not_tuned_on() -> None:
    """33 exports in 18 kinds and 11 languages: nothing is sure and wrong, little is wrong, most is right."""
    tally: Counter[str] = Counter()
    for file in exports():
        for column in columns_of(file):
            tally[f"{column.verdict}{' fact' if column.wanted else ''}"] += 1
            assert not (column.verdict == "wrong" and column.sure), column
    assert len(exports()) >= 30 and len({entry["kind"] for entry in exports().values()}) >= 15  # type: ignore[attr-defined]
    assert tally["wrong"] + tally["wrong fact"] == 0, tally
    assert tally["right fact"] >= 0.9 * (tally["right fact"] + tally["missed fact"]), tally


@pytest.mark.parametrize(
    ("file", "encoding"),
    [("gmina-konta.csv", "windows-1250"), ("kooperatif-kullanicilar.csv", "windows-1254"),
     ("shokudo-accounts.csv", "cp932"), ("dorf-konten.csv", "windows-1252")],
)  # fmt: skip
def test_the_encoding_is_told_by_what_makes_words(file: str, encoding: str) -> None:
    """Several encodings read such a file without a fault; only one makes words of its header."""
    found = guessed(file)
    assert found is not None
    first, mine = (found.export.sample.columns[1].header for _ in range(2)), found.export.encoding
    assert next(first).encode(encoding) == next(first).encode(mine)
    assert find_encoding("Login;Name\nx;y\n".encode("utf-16-le")) == "utf-16-le"
    assert find_encoding("Login;Größe\n".encode()) == ""


# traps


def test_days_of_a_spreadsheet_are_no_days_since_1970(tmp_path: Path) -> None:
    """46340 is 2026-11-14, not 2096: accounts that have ended are not taken for those that last."""
    data = export(
        **{
            "Account expires": ["46340", "46300", "46360", "47000"],
            "Last logon": ["46330.375", "46331", "46101,5"],
        }
    )
    accounts = read_back(data, tmp_path)
    first = accounts.row(0, named=True)
    # A plain last day still counts: it ends with the day that follows.
    assert first["ends"] == datetime(2026, 11, 15, tzinfo=UTC)
    assert first["last-sign-in"] == datetime(2026, 11, 4, 9, tzinfo=UTC)
    assert accounts["last-sign-in"][2] == datetime(2026, 3, 20, 12, tzinfo=UTC)
    assert accounts["last-sign-in"].null_count() == 0


@pytest.mark.parametrize(
    ("header", "yes", "fact", "means"),
    [
        ("Not locked", "yes", "locked", False),
        ("Account not active", "yes", "enabled", False),
        ("Non-admin", "yes", "privileged", False),
        ("Nicht gesperrt", "ja", "locked", False),
        ("Password not required", "yes", "password-optional", True),
        ("Password required", "yes", "password-optional", False),
        ("Locked", "yes", "locked", True),
        ("No password", "yes", "has-password", False),
    ],
)
def test_a_header_that_says_not_is_turned_round(
    header: str, yes: str, fact: str, means: bool, tmp_path: Path
) -> None:
    """Whatever the word for it."""
    accounts = read_back(export(**{header: [yes, "nein" if yes == "ja" else "no"]}), tmp_path)
    assert accounts[fact].to_list()[:2] == [means, not means]


@pytest.mark.parametrize(
    "header",
    ["Sync enabled", "Mailbox active", "License active", "Forwarding enabled", "VPN enabled", "Backup enabled",
     "Directory sync active", "Phone enabled", "Device locked", "E-mail verified", "Licence locked", "Quota enabled",
     "Trial active", "SMS consent", "Newsletter active", "Roaming enabled", "Kiosk locked", "Sync nicht gesperrt"],
)  # fmt: skip
def test_a_yes_to_something_else_is_no_fact_of_the_account(header: str) -> None:
    """A header is read whole: what it is about, before what it says of it."""
    assert header not in taken(export(**{header: ["yes", "no"], "Display name": "A B"}))


@pytest.mark.parametrize(
    "header",
    ["Last password check", "Password strength changed", "Last password audit", "License expires", "Trial ends",
     "Mailbox last accessed", "Last sync", "MFA last used", "Phone last changed", "Photo updated", "Password hint changed",
     "Last backup", "Domain expires", "Contract renewal", "Badge expires", "Last seen on VPN", "Consent given",
     "Recovery mail changed", "Letzte Passwortprüfung", "Device last used"],
)  # fmt: skip
def test_a_day_of_something_else_is_none_of_the_account(header: str) -> None:
    """Neither as a date, nor as a number a spreadsheet would show for one."""
    for values in (["2026-01-20", "2026-10-13"], ["46340", "46100", "45800"]):
        assert header not in taken(export(**{header: values, "Display name": "A B"}))


@pytest.mark.parametrize(
    "header", ["mfa_active", "MFA enabled", "2FA", "MFA registered", "Second factor active"]
)
def test_a_factor_that_is_on_is_no_account_that_is_enabled(header: str) -> None:
    """It says that one is registered."""
    assert taken(export(**{header: ["yes", "no"]}))[header][0] == "account.second-factor-registered"


def test_a_failed_password_is_a_failure() -> None:
    """ "Last bad password" tells of a failed sign-in, not of a new password."""
    assert (
        taken(export(**{"Last bad password": ["2026-01-20", "2026-10-13"]}))["Last bad password"][0]
        == "account.last-failed"
    )


def test_names_of_people_are_no_roles() -> None:
    """Whatever else the table has."""
    people = [
        "Ada Arven",
        "Ben Birk",
        "Cleo Clemm",
        "Dan Dorn",
        "Eva Ebner",
        "Finn Falk",
        "Gil Gisin",
        "Hal Horn",
    ]
    found = taken(export(Name=people, Start=["2026-01-02", "2025-10-20"]))
    assert found["Name"][0] != "grant.role"


def test_methods_in_one_cell_are_factors() -> None:
    """ "Authenticator; SMS" is two of them, and no elevation."""
    data = export(x="").replace(b";x", b",MFA methods").replace(b";", b",Authenticator; SMS")
    assert taken(data)["MFA methods"][0] == "factor.kind"


def test_a_login_beside_a_mail_address() -> None:
    """By what it is called; and a column that may be one, whatever it is called, is said."""
    mails = [f"{login}@x.example" for login in LOGINS]
    data = "\n".join(f"{a},{b}" for a, b in [("uid", "mail"), *zip(LOGINS, mails, strict=True)]).encode()
    assert taken(data)["uid"][0] == "account.name"
    found = guess(read_sample(data.replace(b"uid", b"Zugang", 1), "x.csv"), AT.date(), Asked())
    assert found is not None
    name = next(match for match in found.parts[0].matches if match.fact.name == "name")
    assert name.sureness != SURE and ("Zugang" in name.fit.remark or name.column.header == "Zugang")


def test_two_columns_that_say_the_same_are_both_named() -> None:
    """Nobody can be sure of either."""
    data = export(
        **{"Last logon": ["2026-01-20", "2026-10-13"], "Last sign-in": ["2024-01-20", "2025-10-13"]}
    )
    match = next(match for _, match in taken(data).values() if match.fact.name == "last-sign-in")
    assert match.sureness != SURE and "as well" in match.fit.remark


def test_numbers_that_may_be_numbers_of_another_sort_are_not_sure() -> None:
    """Two of them, or such as follow each other."""
    assert taken(export(Created=["1795219200", "1795219201", "1795219202"]))["Created"][1].sureness != SURE
    assert taken(export(Created=["1795219200", "1700000000", "1600000000"]))["Created"][1].sureness == SURE
    assert "Created" not in taken(export(Created=["1204", "88", "310"]))


def test_a_length_in_numbers_wants_a_unit() -> None:
    """The header names it, or it is no length of time."""
    policies = b"Policy;Min length;Max age (days);Lockout duration\nA;10;365;15\nB;12;180;30\n"
    found = taken(policies)
    assert found["Max age (days)"][1].fit.options["unit"] == "days"
    assert "Lockout duration" not in found


def test_the_line_that_names_the_columns_is_found() -> None:
    """Below titles, and below the line that names the separator; never a row of data."""
    for above, line in (("Accounts of today\n\nby the system\n", 4), ("sep=;\n", 2)):
        data = f"{above}Login;Mail;Name\n" + "".join(f"{login};{login}@x.example;A B\n" for login in LOGINS)
        export = read_sample(data.encode(), "x.csv")
        assert export.header_line == line and export.sample.rows == len(LOGINS)
        assert set(taken(data.encode())) == {"Login", "Mail", "Name"}
    with pytest.raises(KeymalletError, match="the first line has 2 of the 3 cells"):
        read_sample(b"Login;Mail\na;b;c\nd;e;f\n", "x.csv")


@pytest.mark.parametrize(
    ("header", "values"),
    [("Login count", ["5", "12", "40"]), ("Password change due", ["2026-01-22", "2025-03-20"]),
     ("Next password change", ["2026-01-22"]), ("First login", ["2020-01-22"]), ("Days since password change", ["12", "400"]),
     ("Admin", ["hal", "gus"]), ("Created by", ["hal", "gus"]), ("Disabled on", ["2026-01-22", ""])],
)  # fmt: skip
def test_what_only_sounds_alike_is_no_fact(header: str, values: list[str]) -> None:
    """What is due has not been; whoever counts sign-ins counts no failures; a name is no yes."""
    assert header not in taken(export(**{header: values, "Display name": "A B"}))


# what stands in several columns, or in none


def test_crosses_and_no_crosses(tmp_path: Path) -> None:
    """Where people put a cross, an empty cell says no; likely, for it is never certain."""
    for header, mark, fact, means in (("Locked", "X", "locked", True), ("Disabled", "✓", "enabled", False)):
        data = export(**{header: [mark, "", ""]})
        assert taken(data)[header][1].sureness == "likely"
        assert read_back(data, tmp_path)[fact].to_list()[:3] == [means, not means, not means]


def test_a_day_and_its_time_are_put_together(tmp_path: Path) -> None:
    """In the column behind it, whatever that is called; a day without a time stands for itself."""
    data = export(**{"Letzte Anmeldung": ["20.11.2026", "21.11.2026", ""], "Uhrzeit": ["08:15", "", ""]})
    at = read_back(data, tmp_path)["last-sign-in"].to_list()
    assert at[:3] == [datetime(2026, 11, 20, 8, 15, tzinfo=UTC), datetime(2026, 11, 21, tzinfo=UTC), None]
    other = read_back(data.replace(b"Uhrzeit", b"Schichtbeginn"), tmp_path)["last-sign-in"]
    assert other[0] == datetime(2026, 11, 20, tzinfo=UTC)


def test_numbered_columns_are_rows(tmp_path: Path) -> None:
    """A first and a second key: a row for each that stands there, and no fact of the account."""
    data = (
        export(**{"Key 1": "", "Key 1 created": "", "Key 2": "", "Key 2 created": ""}).decode().splitlines()
    )
    data[1] = "arven;K-1;2026-01-14;K-2;2026-02-15"
    data[2] = "birk;;;K-3;2026-03-20"
    text = "\n".join(data)
    found = guess(read_sample(text.encode(), "x.csv"), AT.date(), Asked())
    assert found is not None and [part.table.name for part in found.parts] == ["account", "key"]
    (tmp_path / "x.csv").write_text(text)
    keys = try_map(
        map_text(found, today=AT.date(), clock="UTC"), tmp_path / "x.csv", "csv", ZoneInfo("UTC"), AT
    ).tables["key"]
    assert sorted(keys.select("account", "key").rows()) == [
        ("arven", "K-1"),
        ("arven", "K-2"),
        ("birk", "K-3"),
    ]
    assert keys["issued"].null_count() == 0


def test_a_map_asks_once_for_what_the_system_does_not_have(tmp_path: Path) -> None:
    """In a comment, ready to be put where it says: as it stands there, it is read."""
    data = export(**{"Account expires": ["2027-01-31", ""]})
    found = guess(read_sample(data, "x.csv"), AT.date(), Asked())
    assert found is not None
    text = map_text(found, today=AT.date(), clock="UTC")
    assert '#   under [account]: absent = ["starts"]' in text
    assert '#   at the top: absent = ["key", "factor", "elevation"]' in text
    said = text.replace("[account.columns]", '[account]\nabsent = ["starts"]\n[account.columns]')
    (tmp_path / "x.csv").write_bytes(data)
    whole = f'absent = ["key", "factor", "elevation"]\n{said}'
    reading = try_map(whole, tmp_path / "x.csv", "csv", ZoneInfo("UTC"), AT)
    assert {"starts", "ends"} <= reading.supply["account"].keys() and "key" in reading.supply


# reading


@given(
    st.datetimes(datetime(1986, 1, 1), datetime(2044, 1, 1)),
    st.sampled_from(["epoch-seconds", "epoch-milliseconds", "epoch-microseconds", "epoch-nanoseconds", "filetime", "spreadsheet-days"]),
)  # fmt: skip
def test_a_bare_number_has_one_reading(instant: datetime, written: str) -> None:
    """The windows do not overlap, so every number is found in the format it was written in, and reads back."""
    instant = instant.replace(microsecond=0)
    since = int((instant - datetime(1970, 1, 1)).total_seconds())
    number = {
        "epoch-seconds": str(since),
        "epoch-milliseconds": str(since * 1_000),
        "epoch-microseconds": str(since * 1_000_000),
        "epoch-nanoseconds": str(since * 1_000_000_000),
        "filetime": str((since + 11_644_473_600) * 10_000_000),
        "spreadsheet-days": f"{since / 86_400 + 25_569:.9f}",
    }[written]
    assume(number != "2147483647")  # written for "never"
    found = find_dates({number: 1})
    assert found.formats == [written]
    assert _read([number], [written]) == [instant.replace(tzinfo=UTC)]


def _read(values: list[str], formats: list[str]) -> list[datetime | None]:
    map_ = f'[account.columns]\nname = "n"\ncreated = {{ from = "c", formats = {formats} }}\n'
    (row_map,) = read_column_map(map_, "m", ZoneInfo("UTC")).tables["account"]
    cell = next(cell for cell in row_map.cells if cell.column.name == "created")
    instants, unread, _ = read_instants(pl.Series(values), cell)
    assert unread is None
    return instants.to_list()


@pytest.mark.parametrize(
    "written",
    ["20 novembre 2026", "20. November 2026", "20 de noviembre de 2026", "20 listopada 2026", "20 listopadu 2026",
     "20 Kasım 2026", "2026年11月20日", "2026-W47-5", "20-nov-2026", "20 novembro 2026", "20 NOVEMBRE 2026", "20 nov. 2026"],
)  # fmt: skip
def test_months_by_their_names_and_weeks(written: str) -> None:
    """In the languages whose headers are known."""
    found = find_dates({written: 1})
    assert found.share == 1.0
    assert _read([written], found.formats) == [datetime(2026, 11, 20, tzinfo=UTC)]


@pytest.mark.parametrize(
    ("written", "unit", "length"),
    [("PT8H", "", timedelta(hours=8)), ("P90D", "", timedelta(days=90)), ("P1DT2H30M", "", timedelta(hours=26.5)),
     ("8 h", "", timedelta(hours=8)), ("30 Minutes", "", timedelta(minutes=30)), ("90", "d", timedelta(days=90)),
     ("0", "", timedelta()), ("90", "", None), ("P1M", "", None), ("8 moons", "", None), ("P", "", None)],
)  # fmt: skip
def test_lengths_of_time(written: str, unit: str, length: timedelta | None) -> None:
    """A bare number is none, unless somebody says in what; nor is a month, which has no length of its own."""
    assert parse_length(written, unit) == length


@pytest.mark.parametrize(
    ("written", "days"),
    [("180 Tage", 180), ("2 semaines", 14), ("48 ore", 2), ("30 días", 30), ("1,5 dny", 1.5), ("7日", 7), ("3 Monate", None)],
)  # fmt: skip
def test_lengths_in_other_languages(written: str, days: float | None) -> None:
    """Months are no length."""
    assert parse_length(written) == (None if days is None else timedelta(days=days))


# three exports full of headers that are nearly those of facts

_NEARLY = {
    "english": (
        """User,Never logged in,Days since last logon,Locked out count,Admin since,Is service account,Non-expiring password,Password expired,Disabled on,Active until,2FA exempt,Cannot change password,Previous login name,Manager login,Last MFA prompt
ada,no,12,0,2024-01-02,no,yes,no,,2027-01-01,no,no,adal,bea,2026-11-01T10:00:00Z
bea,no,3,2,,no,no,no,,,no,no,,cem,2026-11-02T10:00:00Z
cem,yes,400,7,2023-05-06,yes,no,yes,2026-05-05,2026-06-30,yes,yes,cemo,,
dov,no,30,1,,no,no,no,,2027-02-01,no,no,,bea,2026-10-01T10:00:00Z
eli,no,1,0,2022-02-02,no,yes,yes,2026-07-07,2026-08-30,no,no,eliel,bea,2026-09-01T10:00:00Z
""",
        {"User": "name", "Non-expiring password": "password-never-expires", "Active until": "ends"},
    ),
    "german": (
        """Benutzer;Zuletzt nicht angemeldet;Kennwort läuft nie ab;Kennwort abgelaufen am;Konto läuft ab;Sperre endet;Nicht deaktiviert;MFA Ausnahme;Letzte Kennwortprüfung;Letzter Fehlversuch;Erstanmeldung;Löschdatum;Rollen seit
anna;;ja;;31.12.2026;;ja;nein;01.11.2026;02.11.2026 10:00;01.02.2020;;01.01.2024
bert;;nein;01.10.2026;;28.11.2026 12:00;ja;ja;02.11.2026;;05.02.2021;;
carl;;nein;;30.06.2026;;nein;nein;;05.10.2026 09:12;06.07.2022;31.12.2026;01.02.2025
dora;;ja;;;;ja;nein;04.11.2026;;01.02.2023;;
""",
        {"Benutzer": "name", "Kennwort läuft nie ab": "password-never-expires", "Konto läuft ab": "ends",
         "Sperre endet": "locked-until", "Nicht deaktiviert": "enabled", "Letzter Fehlversuch": "last-failed"},
    ),
    "tokens": (
        """login,enabled?,status code,pwd age (days),last seen,last modified,last synced,expiry warning,approved,approver,requested on,valid from,valid thru,secondary e-mail,phone verified,token serial,u2f
kim,TRUE,512,34,2026-11-20 08:00,2026-11-01,2026-11-24,14,yes,lea,2026-01-01,2026-01-02,2026-12-31,kim@home.example,yes,99881,yes
lea,TRUE,512,200,2026-11-21 08:00,2026-10-01,2026-11-24,14,yes,max,2026-01-01,2026-01-02,2027-12-31,,no,99882,no
max,FALSE,514,720,2025-01-01 08:00,2025-01-05,2026-11-24,14,no,,2025-01-01,2025-01-02,2025-12-31,max@home.example,yes,,no
noa,TRUE,66048,10,2026-11-22 08:00,2026-11-10,2026-11-24,14,yes,lea,2026-01-01,2026-03-02,2026-12-31,,yes,99884,yes
""",
        {"login": "name", "enabled?": "enabled", "last seen": "last-sign-in", "valid from": "starts", "valid thru": "ends"},
    ),
}  # fmt: skip


@pytest.mark.parametrize("name", _NEARLY)
def test_what_is_nearly_a_fact_is_none(name: str, tmp_path: Path) -> None:
    """Days since, counts of, who once, exempt from: only what is meant is taken; rows of accounts stay accounts."""
    text, expected = _NEARLY[name]
    (tmp_path / "a.csv").write_text(text, "utf-8")
    found = guess(look_into(tmp_path / "a.csv", "a.csv"), AT.date(), Asked())
    assert found is not None and [part.table.name for part in found.parts] == ["account"]
    (part,) = found.parts
    used = {match.column.header: match.fact.name for match in part.matches if part.uses(match)}
    assert used == expected
