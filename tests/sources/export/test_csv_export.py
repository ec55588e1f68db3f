"""Any CSV through a column map: encodings, separators, ragged rows, dates, words; nothing lost in silence."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from keymallet.core.base.problems import KeymalletError
from keymallet.core.facts.evidence import UNREAD
from keymallet.core.facts.reading import Reading
from keymallet.sources.export.reading import read
from keymallet.sources.request import Request
from keymallet.sources.sections import ExportSection
from tests.profiles import examples
from tests.support import AT, CLOCK, write

MAP = """
[account.columns]
name = "Login"
display = "Name"
"""


def read_csv(folder: Path, accounts: str | bytes, column_map: str = MAP, **files: str | bytes) -> Reading:
    """Read an export of these files; without columns given, of a Login and a Name."""
    tables = {"account": "accounts.csv"} | {name: f"{name}.csv" for name in files}
    write(
        folder,
        {"map.toml": column_map, "accounts.csv": accounts}
        | {f"{name}.csv": text for name, text in files.items()},
    )
    with ThreadPoolExecutor(2) as workers:
        request = Request("d", folder, CLOCK, AT, workers)
        (reading,) = read(ExportSection(read="csv", map="map.toml", files=dict(tables)), request)
        request.note_files()
    return reading


def rows(reading: Reading, *columns: str) -> list[tuple[object, ...]]:
    return reading.tables["account"].select(columns or ("name", "display")).rows()


def problem(folder: Path, accounts: str | bytes, column_map: str = MAP) -> tuple[str, int, int, str, str]:
    with pytest.raises(KeymalletError) as raised:
        read_csv(folder, accounts, column_map)
    first = raised.value.problems[0]
    assert first.place is not None
    return first.place.file, first.place.line, first.place.column, first.message, first.hint


PEOPLE = "Login;Name\nanna;Änne Größ\nbo;Bo\n"


@pytest.mark.parametrize(
    ("data", "settings"),
    [
        (PEOPLE.encode(), ""),
        (PEOPLE.encode("utf-8-sig"), ""),
        (PEOPLE.encode("utf-16"), ""),
        (PEOPLE.encode("utf-16-be"), 'encoding = "utf-16-be"'),
        (PEOPLE.encode("cp1252"), 'encoding = "windows-1252"'),
        (PEOPLE.replace(";", ",").encode(), ""),
        (PEOPLE.replace(";", "\t").encode(), ""),
        (PEOPLE.replace(";", "|").encode(), 'separator = "|"'),
        (PEOPLE.replace("\n", "\r\n").encode(), ""),
        (PEOPLE.replace("\n", "\r").encode(), ""),
        (PEOPLE.rstrip().encode(), ""),
        (b"\n\n" + PEOPLE.replace("\nbo", "\n\n\r\nbo").encode(), ""),
        (PEOPLE.replace("anna", ' "anna"').replace(' "anna"', '"anna"').encode(), ""),
        (PEOPLE.replace("anna;", "  anna ;").encode(), ""),
    ],
)
def test_encodings_separators_and_line_ends(tmp_path: Path, data: bytes, settings: str) -> None:
    """All say the same; blank lines and blanks around a value mean nothing."""
    assert rows(read_csv(tmp_path, data, settings + MAP)) == [("anna", "Änne Größ"), ("bo", "Bo")]


def test_line_breaks_and_separators_inside_quotes(tmp_path: Path) -> None:
    """They belong to the value; later rows are still placed on their own lines."""
    reading = read_csv(tmp_path, 'Login,Name\nanna,"first\nsecond, ""third"""\nbo,Bo\nbo,again\n')
    assert rows(reading) == [("anna", 'first\nsecond, "third"'), ("bo", "Bo")]
    assert [refusal.lines for refusal in reading.intake["account"].refusals] == ["5"]


def test_every_row_that_is_refused_is_counted_with_its_line(tmp_path: Path) -> None:
    """Ragged rows, rows without a name, a name that stood before, text after a closing quote."""
    text = 'Login,Name\nanna,A\nshort\nlong,L,x\n,nameless\nanna,again\n"b"c,B\n  ,blank\nbo,Bo\n'
    reading = read_csv(tmp_path, text)
    intake = reading.intake["account"]
    assert rows(reading) == [("anna", "A"), ("bo", "Bo")]
    assert (intake.read, intake.refused) == (2, 6)
    assert sorted((refusal.line, refusal.reason) for refusal in intake.refusals) == [
        (3, "1 cell where the header has 2"),
        (4, "3 cells where the header has 2"),
        (5, "no name"),
        (6, "this name stood on an earlier line"),
        (7, "text after a closing quote"),
        (8, "no name"),
    ]


@pytest.mark.parametrize(
    ("data", "settings", "line", "column", "message", "hint"),
    [
        (b"", "", 1, 0, "the file is empty", "name the columns"),
        (b"Login,Nam\nx,y\n", "", 1, 0, 'no column "Name"', 'did you mean "Nam"?'),
        (b"Login,Name,Name\nx,y,z\n", "", 1, 0, "the name of several columns: 2, 3", "different names"),
        (PEOPLE.encode("cp1252"), "", 2, 6, "not UTF-8: 0xc4", "windows-1252"),
        (
            PEOPLE.encode() + b"x;\x81\n",
            'encoding = "windows-1252"',
            4,
            3,
            "not windows-1252: 0x81",
            "encoding",
        ),
        (PEOPLE.encode(), 'encoding = "klingon"', 0, 0, "no encoding", "utf-8"),
        (b'Login,Name\nx,"y\nz,w\n', "", 2, 0, "never closed", "close the quote"),
        (
            b'"Login"x,Name,Loginx\nx,"y",z\n\n',
            'separator = ","',
            1,
            0,
            'no column "Login"',
            'did you mean "Loginx"?',
        ),
        (b'Login,Name,"odd"x\nx,"y",z\n\n', "", 1, 0, "the header cannot be read", "quotes go around"),
        (b'Login,Name\na,"b\nc,d\ne,"f"\n', "", 2, 0, "", ""),
    ],
)
def test_what_cannot_be_read_at_all_is_refused_with_its_place(
    tmp_path: Path, data: bytes, settings: str, line: int, column: int, message: str, hint: str
) -> None:
    """File, line, column, and what to do."""
    if not message:
        # Two stray quotes that seem to match: the swallowed rows are refused, not lost.
        intake = read_csv(tmp_path, data, settings + MAP).intake["account"]
        assert (intake.read, [refusal.lines for refusal in intake.refusals]) == (0, ["2-4"])
        return
    found = problem(tmp_path, data, settings + MAP)
    assert found[:3] == ("accounts.csv", line, column)
    assert message in found[3]
    assert hint in found[4]


FACTS = """
none = ["-", "n/a"]
unknown = ["?"]
[account.columns]
name = "Login"
enabled = { from = "Status", true = ["Active"], false = ["Off"] }
kind = { from = "Type", words = { "Staff" = "person" } }
failed-attempts = "Failed"
groups = { from = "Groups", separator = "|" }
ends = { from = "End", formats = ["iso", "%d.%m.%Y"], plain = "through" }
"""
HEADER = "Login,Status,Type,Failed,Groups,End\n"


def test_values_become_facts_and_what_is_not_understood_is_unknown(tmp_path: Path) -> None:
    """The row stays; the cell is counted with line, column and reason, and marked as unread."""
    text = (
        HEADER
        + "a,active,STAFF,3,x| y |,30.11.2026\nb,maybe,robot,-1,,31.11.2026\nc,?,-,n/a,-,-\nd,,guest,,x,\n"
    )
    reading = read_csv(tmp_path, text, FACTS)
    end = datetime(2026, 11, 30, 23, 0, tzinfo=UTC)
    assert rows(reading, "enabled", "kind", "failed-attempts", "groups", "ends", UNREAD) == [
        (True, "person", 3, ["x", "y"], end, []),
        (None, None, None, [], None, ["enabled", "kind", "failed-attempts", "ends"]),
        (None, None, None, [], None, ["enabled"]),
        (None, "guest", None, ["x"], None, []),
    ]
    cells = reading.intake["account"].unreadable_cells
    assert [(cell.line, cell.column) for cell in cells] == [
        (3, "Status"), (3, "Type"), (3, "Failed"), (3, "End")
    ]  # fmt: skip
    assert cells[0].reason == '"maybe": neither a yes nor a no of the map'


@pytest.mark.parametrize(
    ("written", "options", "expected"),
    [
        ("2026-03-02T08:15:00Z", "", "2026-03-02T08:15"),
        ("2026-03-02T10:15:00+02:00", "", "2026-03-02T08:15"),
        ("2026-03-02T10:15+0200", "", "2026-03-02T08:15"),
        ("2026-03-02 09:15:00.5", "", "2026-03-02T08:15:00.500000"),
        ("2026-07-02T10:15:00", "", "2026-07-02T08:15"),
        ("2026-07-02T10:15:00", 'zone = "UTC"', "2026-07-02T10:15"),
        ("2026-07-02", 'plain = "until"', "2026-07-01T22:00"),
        ("2026-07-02", 'plain = "through"', "2026-07-02T22:00"),
        ("2026-07-02", "", "unread"),
        ("2026-03-29", 'plain = "through"', "2026-03-29T22:00"),
        ("2.7.2026 10:15", 'formats = ["%d.%m.%Y %H:%M"]', "2026-07-02T08:15"),
        ("07/02/2026 10:15 AM", 'formats = ["%m/%d/%Y %I:%M %p"]', "2026-07-02T08:15"),
        ("2026-07-02 10:15 CEST", 'formats = ["%Y-%m-%d %H:%M"]', "2026-07-02T08:15"),
        ("2026-07-02 10:15 +0300", 'formats = ["%Y-%m-%d %H:%M %z"]', "2026-07-02T07:15"),
        ("2026-07-02 10:15:00.25", 'formats = ["%Y-%m-%d %H:%M:%S.%f"]', "2026-07-02T08:15:00.250000"),
        ("1782980100", 'formats = ["epoch-seconds"]', "2026-07-02T08:15"),
        ("1782980100000", 'formats = ["epoch-milliseconds"]', "2026-07-02T08:15"),
        ("20636", 'formats = ["epoch-days"]', "2026-07-02T00:00"),
        ("134274537000000000", 'formats = ["filetime"]', "2026-07-02T08:15"),
        ("9223372036854775807", 'formats = ["filetime"]', None),
        ("0", 'formats = ["filetime"]', None),
        ("0", 'formats = ["epoch-seconds"]', None),
        ("9999999999999999", 'formats = ["epoch-days"]', None),
        ("1601-01-01T00:00:00Z", "", None),
        ("never", 'none = ["Never"]', None),
        ("2026-03-29T02:30:00", "", "unread"),
        ("2026-10-25T02:30:00", "", "2026-10-25T00:30"),
        ("2026-02-30", 'plain = "until"', "unread"),
        ("soon", "", "unread"),
    ],
)
def test_dates_are_read_as_the_map_says(
    tmp_path: Path, written: str, options: str, expected: str | None
) -> None:
    """Zones, plain days, counts since an epoch; "never" is none; what is no date is unread, not none."""
    column_map = f"""
[dates.zones]
CEST = "Europe/Zurich"
[account.columns]
name = "Login"
[account.columns.ends]
from = "End"
{options}
"""
    # A row written in full beside it: one column may hold several ways of writing.
    reading = read_csv(tmp_path, f"Login,End\na,{written}\n", column_map)
    found = reading.tables["account"]["ends"][0]
    unread = UNREAD in reading.tables["account"].columns
    shown = "unread" if unread else found and found.astimezone(UTC).replace(tzinfo=None).isoformat()
    assert shown == (expected and (expected if len(expected) != 16 else expected + ":00"))


def test_several_formats_in_one_column(tmp_path: Path) -> None:
    """Each value is read by the first format that fits it."""
    text = "Login,End\na,2026-01-02T00:00:00Z\nb,03.01.2026\nc,04.01.2026 12:00\nd,-\n"
    column_map = """
none = ["-"]
[account.columns]
name = "Login"
ends = { from = "End", formats = ["iso", "%d.%m.%Y %H:%M", "%d.%m.%Y"], plain = "until" }
"""
    found = read_csv(tmp_path, text, column_map).tables["account"]["ends"].to_list()
    assert [value and f"{value:%d %H}" for value in found] == ["02 00", "02 23", "04 11", None]


def test_rows_of_other_tables_name_their_accounts(tmp_path: Path) -> None:
    """By login name, or looked up by another fact; `absent` says what the system does not know at all."""
    column_map = """
absent = ["elevation"]
[account]
absent = ["starts"]
[account.columns]
name = "Login"
stable-id = "Id"
[key.columns]
account = { from = "Owner", by = "stable-id" }
key = "Key"
kind = { always = "api-key" }
"""
    reading = read_csv(tmp_path, "Login,Id\na,7\nb,8\n", column_map, key="Owner,Key,Note\n8,k1,x\n9,k2,y\n")
    assert reading.tables["key"].select("account", "key", "kind").rows() == [
        ("b", "k1", "api-key"),
        ("9", "k2", "api-key"),
    ]
    assert reading.supply["account"]["starts"] == "the system has no such thing"
    assert reading.supply["key"]["key"] == 'key.csv, "Key"'
    assert "elevation" in reading.supply
    assert "key.csv: not used: column Note" in reading.remarks
    assert [file.path for file in reading.files] == ["accounts.csv", "key.csv", "map.toml"]


def test_an_account_in_two_files_of_one_source_is_refused_once(tmp_path: Path) -> None:
    """The first file counts."""
    write(tmp_path, {"map.toml": MAP, "1.csv": "Login,Name\na,1\n", "2.csv": "Login,Name\na,2\nb,2\n"})
    with ThreadPoolExecutor(2) as workers:
        section = ExportSection(read="csv", map="map.toml", files={"account": ["1.csv", "2.csv"]})
        (reading,) = read(section, Request("d", tmp_path, CLOCK, AT, workers))
    assert rows(reading) == [("a", "1"), ("b", "2")]
    assert (reading.intake["account"].read, reading.intake["account"].refused) == (2, 1)


@pytest.mark.parametrize(
    ("text", "line", "message", "hint"),
    [
        ("[accounts.columns]\nname = 'x'", 1, '"accounts" is neither', 'did you mean "account"?'),
        ("[account.columns]\ndisplay = 'x'", 1, '"name" is missing', "name ="),
        ("[account.columns]\nname='x'\nenabld='y'", 3, 'no column "enabld"', 'did you mean "enabled"?'),
        ("[account.columns]\nname='x'\naccount='y'", 3, 'no column "account"', ""),
        ("[account.columns]\nname='x'\nunit={}", 3, "either from", ""),
        ("[account.columns]\nname='x'\nunit={from='a',true=['b']}", 3, '"true" says nothing', ""),
        ("[account.columns]\nname='x'\nkind={from='a',words={A='persn'}}", 3, '"persn" is none', "person"),
        ("[account.columns]\nname='x'\nkind={always='persn'}", 3, '"persn" is none', "person"),
        ("[account.columns]\nname='x'\nends={from='a',formats=['%Q']}", 3, '"%Q" means nothing', "%d.%m.%Y"),
        (
            "[account.columns]\nname='x'\nends={from='a',formats=['isoo']}",
            3,
            '"isoo" is no date format',
            "iso",
        ),
        ("[account.columns]\nname='x'\nends={from='a',formats=['%d.%m.']}", 3, "does not hold year", "iso"),
        (
            "[account.columns]\nname='x'\nends={from='a',formats=['%Y-%m-%d %H']}",
            3,
            "without hour and minute",
            "iso",
        ),
        ("[account.columns]\nname='x'\nends={from='a',zone='localtime'}", 3, "no time zone", "Europe/Zurich"),
        ("[account.columns]\nname='x'\nends={from='a',plain='till'}", 3, "through or until", "still usable"),
        (
            "[account.columns]\nname='x'\nends={from='a',zone='Mars/North'}",
            3,
            "no time zone",
            "Europe/Zurich",
        ),
        ("[dates.zones]\nCET='CETT'\n[account.columns]\nname='x'", 2, "no time zone", ""),
        ("absent=['elevations']\n[account.columns]\nname='x'", 1, "no table", 'did you mean "elevation"?'),
        ("[account]\nabsent=['ends']\n[account.columns]\nname='x'\nends='y'", 2, "mapped as well", ""),
        ("[account.columns]\nname='x'\nmail={from='y',by='name'}", 3, "only an account", ""),
        ("[account.columns]\nname=3", 2, "this has to be", ""),
        ("title = 'empty'", 1, "the map names no table", "[account.columns]"),
    ],
)
def test_faults_of_the_map_are_told_at_their_line(
    tmp_path: Path, text: str, line: int, message: str, hint: str
) -> None:
    """The map's own file and line, what is wrong, and what there is."""
    found = problem(tmp_path, "x\n", text)
    assert (found[0], found[1]) == ("map.toml", line), found
    assert message in found[3]
    assert hint in found[4]


@examples(150)
@given(st.binary(max_size=200) | st.text('Login,Name\n";\r \té\x00', max_size=120).map(str.encode))
def test_any_bytes_are_read_or_refused_and_every_line_is_accounted_for(tmp_path: Path, data: bytes) -> None:
    """Never a traceback; what was read and what was refused adds up to the records there are."""
    harmless = not set(data) - set(b"LoginNme,\n")
    data = b"Login,Name\nfirst,one\n" + data
    try:
        reading = read_csv(tmp_path, data)
    except KeymalletError as error:
        assert all(problem.place for problem in error.problems)
        assert not harmless, "letters, commas and line ends are no reason to refuse a file"
        return
    assert "first" in reading.tables["account"]["name"].to_list() or b'"' in data
    intake = reading.intake["account"]
    assert intake.read == reading.tables["account"].height
    lines = [line for line in data.decode().replace("\r\n", "\n").replace("\r", "\n").split("\n")[1:] if line]
    covered = intake.read + sum(max(each.last_line - each.line + 1, 1) for each in intake.refusals)
    assert covered == len(lines) or b'"' in data


def test_lengths_of_time_may_be_bare_numbers_of_a_stated_unit(tmp_path: Path) -> None:
    """A zero needs no unit, and one that stands there goes before the map's."""
    columns = (
        '[setting.columns]\nsetting = "n"\nlock-for = "bare"\nmax-age = { from = "days", unit = "days" }\n'
        'idle-limit = { from = "seconds", unit = "seconds" }\n'
    )
    text = "n,bare,days,seconds\na,0,90,900\nb,30,2h,1.5\n"
    reading = read_csv(tmp_path, "Login,Name\nanna,A\n", MAP + columns, setting=text)
    told = reading.tables["setting"].select("lock-for", "max-age", "idle-limit").rows()
    assert told == [
        (timedelta(), timedelta(days=90), timedelta(minutes=15)),
        (None, timedelta(hours=2), None),
    ]
    assert [cell.line for cell in reading.intake["setting"].unreadable_cells] == [3, 3]


@pytest.mark.parametrize(
    ("entry", "complaint"),
    [
        ('max-age = { from = "n", unit = "dayz" }', '"dayz" is no unit of time'),
        ('history = { from = "n", unit = "days" }', '"unit" says nothing about count facts'),
    ],
)
def test_a_unit_that_means_nothing_is_a_fault(tmp_path: Path, entry: str, complaint: str) -> None:
    """One that is none, and one of what is no length of time."""
    columns = f'[setting.columns]\nsetting = "n"\n{entry}\n'
    with pytest.raises(KeymalletError, match=complaint):
        read_csv(tmp_path, "Login,Name\nanna,A\n", MAP + columns, setting="n\na\n")
