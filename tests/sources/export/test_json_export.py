"""Any JSON through a column map: paths, lists, several tables out of one file; bad records cost themselves."""

from __future__ import annotations

import json
from concurrent.futures import ThreadPoolExecutor
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import pytest

from keymallet.core.base.problems import KeymalletError
from keymallet.core.facts.evidence import UNREAD
from keymallet.core.facts.reading import Reading
from keymallet.sources.export.json_path import parse_path
from keymallet.sources.export.reading import read
from keymallet.sources.request import Request
from keymallet.sources.sections import ExportSection
from tests.support import AT, CLOCK, write

MAP = """
[account.columns]
name = "login"
display = "name.full"
"""


def read_json(folder: Path, data: str | bytes, column_map: str = MAP, *tables: str) -> Reading:
    """Read one file as these tables; as accounts, if none are named."""
    write(folder, {"map.toml": column_map, "export.json": data})
    files: dict[str, str | list[str]] = dict.fromkeys(tables or ("account",), "export.json")
    with ThreadPoolExecutor(2) as workers:
        request = Request("d", folder, CLOCK, AT, workers)
        (reading,) = read(ExportSection(read="json", map="map.toml", files=files), request)
        request.note_files()
    return reading


def lines(*records: Any) -> str:
    return "".join(f"{json.dumps(record)}\n" for record in records)


def rows(reading: Reading, table: str, *columns: str) -> list[tuple[object, ...]]:
    return reading.tables[table].select(columns).rows()


def first_problem(folder: Path, data: str | bytes, column_map: str = MAP) -> str:
    with pytest.raises(KeymalletError) as raised:
        read_json(folder, data, column_map)
    problem = raised.value.problems[0]
    return f"{problem.place.file if problem.place else ''}:{problem.message} | {problem.hint}"


@pytest.mark.parametrize(
    ("data", "settings"),
    [
        (lines({"login": "a", "name": {"full": "Änne"}}, {"login": "b"}), ""),
        ('\ufeff[{"login": "a", "name": {"full": "Änne"}},\n {"login": "b"}]', ""),
        (
            '{"page": {"of": [{"login": "a", "name": {"full": "Änne"}}, {"login": "b"}]}}',
            'records = "page.of"\n',
        ),
        ('{"login": "a", "name.full": "Änne"}\r\n\r\n{"login": "b", "name": null}', ""),
    ],
    ids=["lines", "list", "document", "a name with a dot"],
)
def test_records_stand_in_lines_in_a_list_or_in_a_document(tmp_path: Path, data: str, settings: str) -> None:
    """However they are held, they are the same records."""
    assert rows(read_json(tmp_path, data, settings + MAP), "account", "name", "display") == [
        ("a", "Änne"),
        ("b", None),
    ]


@pytest.mark.parametrize(
    ("path", "found"),
    [
        ("login", ["a"]),
        ("name.given", ["Anna"]),
        ("name.middle", []),
        ("name.given.more", []),
        ("mails[0].value", ["a@x"]),
        ("mails[9].value", []),
        ("mails[].value", ["a@x", "a@y"]),
        ("mails[type=work].value", ["a@y"]),
        ("mails[type='work'].value", ["a@y"]),
        ('"urn:x:2.0:User".unit', ["Trains"]),
        ("groups[]", ["g", "h"]),
        ("login[0]", []),
    ],
)
def test_paths_lead_into_records(path: str, found: list[str]) -> None:
    """Names, places, every member, members with a value; a way that breaks off leads to nothing."""
    record = {
        "login": "a",
        "name": {"given": "Anna", "middle": None},
        "mails": [{"value": "a@x"}, {"value": "a@y", "type": "work"}, "odd"],
        "groups": ["g", "h"],
        "urn:x:2.0:User": {"unit": "Trains"},
    }
    assert parse_path(path).found_in(record) == found


@pytest.mark.parametrize("path", ["", ".", "a.", "a..b", "a[", "a[x]", "a[=x]", '"a', "a]b"])
def test_paths_that_are_none_are_refused_where_they_stand(tmp_path: Path, path: str) -> None:
    """With the line of the map."""
    with pytest.raises(KeymalletError) as raised:
        read_json(tmp_path, "{}", f"[account.columns]\nname = '{path}'\n")
    place = raised.value.problems[0].place
    assert place is not None
    assert (place.file, place.line) == ("map.toml", 2)


def test_values_are_read_as_the_facts_they_are(tmp_path: Path) -> None:
    """Flags, numbers, lists with separators in their members, dates as text or number; null is none."""
    column_map = """
    list-separator = ","
    [account.columns]
    name = "login"
    enabled = "active"
    failed-attempts = "failed"
    groups = "groups[].name"
    labels = "labels"
    created = "made"
    last-sign-in = { from = "seen", formats = ["epoch-seconds"] }
    """
    full = {
        "login": "a",
        "active": True,
        "failed": 3,
        "groups": [{"name": "Line, North"}, {"name": "crew"}],
        "labels": "x, y",
        "made": "2026-01-02T03:04:05Z",
        "seen": 1764000000.0,
    }
    empty = {"login": 7, "active": None, "groups": [], "labels": []}
    (first, second) = read_json(tmp_path, lines(full, empty), column_map).tables["account"].to_dicts()
    made, seen = datetime(2026, 1, 2, 3, 4, 5, tzinfo=UTC), datetime(2025, 11, 24, 16, tzinfo=UTC)
    assert first == {
        "name": "a",
        "enabled": True,
        "failed-attempts": 3,
        "groups": ["Line, North", "crew"],
        "labels": ["x", "y"],
        "created": made,
        "last-sign-in": seen,
    }
    assert (second["name"], second["enabled"], second["groups"], second["labels"]) == ("7", None, [], [])


def test_one_export_fills_several_tables(tmp_path: Path) -> None:
    """Members of lists are rows of their own, tied to the record around; what is not told is not none."""
    column_map = """
    [account.columns]
    name = "login"
    [factor]
    rows = "methods"
    [factor.columns]
    account = "^login"
    kind = { from = "type", words = { app = "otp", key = "passkey" } }
    registered = "since"
    [grant]
    rows = "roles[]"
    missing = "none"
    [grant.columns]
    account = "^login"
    role = "@"
    """
    data = lines(
        {
            "login": "a",
            "methods": [{"type": "app", "since": "2026-01-01T00:00Z"}, {"type": "key"}],
            "roles": ["r"],
        },
        {"login": "b", "methods": []},
        {"login": "c"},
    )
    reading = read_json(tmp_path, data, column_map, "account", "factor", "grant")
    factors = rows(reading, "factor", "account", "kind", UNREAD)
    assert factors == [("a", "otp", None), ("a", "passkey", None), ("c", None, ["*"])] or factors == [
        ("a", "otp", []),
        ("a", "passkey", []),
        ("c", None, ["*"]),
    ]
    assert rows(reading, "grant", "account", "role") == [("a", "r")]
    assert reading.intake["factor"].read == 2
    assert any("1 records do not mention" in remark for remark in reading.remarks)
    assert [file.path for file in reading.files] == ["export.json", "map.toml"]


def test_bad_records_cost_only_themselves(tmp_path: Path) -> None:
    """Each is refused with its line: broken, of another shape, nested 100,000 deep, not UTF-8, without name."""
    deep = b'{"login": ' + b"[" * 100_000 + b"]" * 100_000 + b"}"
    data = b"\n".join(
        [
            b'{"login": "a"}',
            b'{"login": ',
            b"[1]",
            deep,
            b'{"login": "\xff"}',
            b"{}",
            b'{"login": "a"}',
            b'{"login": "z"}',
        ]
    )
    reading = read_json(tmp_path, data)
    assert rows(reading, "account", "name") == [("a",), ("z",)]
    refusals = [(refusal.line, refusal.reason) for refusal in reading.intake["account"].refusals]
    assert [line for line, _ in sorted(refusals)] == [2, 3, 4, 5, 6, 7]
    assert dict(refusals)[4] == "no JSON: it is nested too deeply"
    assert dict(refusals)[7] == "this name stood on an earlier line"


@pytest.mark.parametrize(
    ("data", "said"),
    [
        ("", "the file is empty"),
        ("<html>sign in</html>", 'this is no JSON: it begins with "<html>'),
        ("Login,Name\na,b\n", "this is no JSON"),
        ('{\n "users": [\n  {"login": "a"}\n ]\n}', 'records = "users"'),
        ("[1, 2]", "no object"),
        ('[{"login": "a"}', "this is no list of records"),
        ("[" * 100_000, "nested too deeply"),
    ],
)
def test_files_that_are_something_else_are_said_to_be(tmp_path: Path, data: str, said: str) -> None:
    """With what to do about it; never a traceback."""
    assert said in first_problem(tmp_path, data)


def test_records_that_are_not_where_the_map_says(tmp_path: Path) -> None:
    """The names that are there are told."""
    assert "there are: users" in first_problem(tmp_path, '{"users": []}', f'records = "people"\n{MAP}')
    assert "has to be names alone" in first_problem(tmp_path, '{"users": []}', f'records = "users[0]"\n{MAP}')


def test_a_csv_can_hold_lists_and_several_things_in_a_row(tmp_path: Path) -> None:
    """Lists are split into rows; one table can be filled from several columns, each where it holds something."""
    from keymallet.sources.export.reading import read as read_csv

    column_map = """
    [account.columns]
    name = "Login"
    [[factor]]
    rows = "Methods"
    [factor.columns]
    account = "Login"
    kind = { from = "@", words = { app = "otp" } }
    [[factor]]
    only-with = "Key since"
    [factor.columns]
    account = "Login"
    kind = { always = "passkey" }
    registered = "Key since"
    """
    export = "Login,Methods,Key since\na,app; sms,2026-01-01\nb,,\nc,fax,\n"
    write(tmp_path, {"map.toml": column_map, "x.csv": export})
    with ThreadPoolExecutor(2) as workers:
        section = ExportSection(read="csv", map="map.toml", files={"account": "x.csv", "factor": "x.csv"})
        (reading,) = read_csv(section, Request("d", tmp_path, CLOCK, AT, workers))
    assert rows(reading, "factor", "account", "kind") == [
        ("a", "otp"),
        ("a", "sms"),
        ("c", None),
        ("a", "passkey"),
    ]
    (unreadable,) = reading.intake["factor"].unreadable_cells
    assert (unreadable.line, unreadable.column) == (4, "@")
