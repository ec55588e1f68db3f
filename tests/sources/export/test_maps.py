"""What a column map can say of files as they come: each way with what goes wrong in it."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest

from keymallet.core.base.problems import KeymalletError
from keymallet.core.facts.evidence import UNREAD
from keymallet.core.facts.reading import Reading
from keymallet.sources.export.reading import read as read_export
from keymallet.sources.request import Request
from keymallet.sources.sections import ExportSection
from tests.support import AT, CLOCK, write


def reading(
    folder: Path, column_map: str, files: dict[str, str | bytes], kind: str = "csv", **tables: str
) -> Reading:
    """Read these files by this map; all are accounts where nothing else is said."""
    write(folder, {"map.toml": column_map, **files})
    section = ExportSection(read=kind, map="map.toml", files=tables or {"account": list(files)})  # type: ignore[arg-type]
    with ThreadPoolExecutor(2) as workers:
        (read,) = read_export(section, Request("d", folder, CLOCK, AT, workers))
    return read


def accounts(
    folder: Path, columns: str, file: str, settings: str = "", *, rest: str = ""
) -> list[dict[str, object]]:
    """The accounts of one CSV file, by the lines under [account.columns]."""
    text = f"{settings}\n[account]\n{rest}\n[account.columns]\n{columns}\n"
    return reading(folder, text, {"a.csv": file}).tables["account"].to_dicts()


def complaints(folder: Path, column_map: str, file: str = "Login,x\na,b\n", **more: str) -> list[str]:
    with pytest.raises(KeymalletError) as raised:
        reading(folder, column_map, {"a.csv": file}, **more)
    return [problem.message for problem in raised.value.problems]


# empty cells, otherwise, words


@pytest.mark.parametrize(
    ("column", "empty", "means"),
    [
        ("locked", "false", False),
        ("locked", "true", True),
        ("locked", '"none"', None),
        ("kind", '"service"', "service"),
    ],
)
def test_an_empty_cell_means_what_the_map_says(
    tmp_path: Path, column: str, empty: str, means: object
) -> None:
    """A list of marks, say: X where it holds, nothing where it does not."""
    words = 'true = ["x"], ' if column == "locked" else 'words = { x = "person" }, '
    found = accounts(
        tmp_path, f'name = "L"\n{column} = {{ from = "C", {words} empty = {empty} }}', "L,C\na,x\nb,\nc,  \n"
    )
    assert [row[column] for row in found] == [column == "locked" or "person", means, means]


def test_an_empty_cell_can_mean_that_nobody_knows(tmp_path: Path) -> None:
    """It is unknown then, and no cell to be mended; for dates, numbers and lists as well."""
    columns = 'name = "L"\nends = { from = "E", empty = "unknown", plain = "until" }\ngroups = { from = "G", empty = "unknown" }'
    text = f"[account.columns]\n{columns}\n"
    read = reading(tmp_path, text, {"a.csv": "L,E,G\na,2026-01-01,x\nb,,\n"})
    assert read.intake["account"].unreadable == 0
    assert read.tables["account"][UNREAD].to_list() == [[], ["ends", "groups"]]
    assert read.tables["account"]["groups"].to_list() == [["x"], None]


def test_every_other_word_can_be_a_no(tmp_path: Path) -> None:
    """`otherwise`, for yes and no as for words; our own words want no entry, whatever their case."""
    columns = 'name = "L"\nenabled = { from = "S", true = ["Live"], otherwise = false }\nkind = { from = "K", otherwise = "guest" }'
    found = accounts(tmp_path, columns, "L,S,K\na,LIVE,Service\nb,gone,PERSON\nc,,odd\n")
    assert [(row["enabled"], row["kind"]) for row in found] == [
        (True, "service"),
        (False, "person"),
        (None, "guest"),
    ]


def test_what_is_always_so_can_be_a_list_a_day_or_a_length(tmp_path: Path) -> None:
    """A day is its first instant, by the clock."""
    columns = 'name = "L"\nlabels = { always = ["kiosk", "night"] }\ncreated = { always = 2026-01-05 }'
    (row,) = accounts(tmp_path, columns, "L\na\n")
    assert (row["labels"], row["created"]) == (["kiosk", "night"], datetime(2026, 1, 4, 23, tzinfo=UTC))
    setting = (
        '[account.columns]\nname = "L"\n[setting.columns]\nsetting = "L"\nmax-age = { always = "PT8H" }\n'
    )
    read = reading(tmp_path, setting, {"a.csv": "L\na\n"}, account="a.csv", setting="a.csv")
    assert read.tables["setting"]["max-age"].to_list() == [timedelta(hours=8)]


# patterns and several columns


def test_a_value_is_cut_out_by_a_pattern(tmp_path: Path) -> None:
    """Where it does not fit, nothing is known: the whole cell is never taken instead."""
    columns = 'name = "L"\nmanager = { from = "M", pattern = "^CN=([^,]+)," }\nkind = { from = "T", pattern = "/(\\\\w+)$", words = { hr = "person" } }'
    text = f"[account.columns]\n{columns}\n"
    read = reading(tmp_path, text, {"a.csv": "L;M;T\na;CN=Bo,OU=x;eu/hr\nb;nobody;eu\nc;;x/odd\n"})
    table = read.tables["account"]
    assert table["manager"].to_list() == ["Bo", None, None]
    assert table["kind"].to_list() == ["person", None, None]
    assert [sorted(unread) for unread in table[UNREAD].to_list()] == [[], ["kind", "manager"], ["kind"]]
    reasons = [cell.reason for cell in read.intake["account"].unreadable_cells]
    assert any("pattern" in reason for reason in reasons) and any("no word" in reason for reason in reasons)


def test_a_day_and_its_time_in_two_columns(tmp_path: Path) -> None:
    """Put together before they are read; a day without a time is a plain day."""
    columns = 'name = { from = ["Site", "Nr"], join = "/" }\ncreated = { from = ["Day", "Time"], formats = ["%d.%m.%Y %H:%M", "%d.%m.%Y"], zone = "UTC" }'
    found = accounts(tmp_path, columns, "Site,Nr,Day,Time\nn,1,05.01.2026,08:30\nn,2,06.01.2026,\n,3,,\n")
    assert [row["name"] for row in found] == ["n/1", "n/2", "3"]
    assert [row["created"] for row in found] == [
        datetime(2026, 1, 5, 8, 30, tzinfo=UTC),
        datetime(2026, 1, 6, tzinfo=UTC),
        None,
    ]


def test_paths_of_json_are_put_together_as_well(tmp_path: Path) -> None:
    """And rows are left out by what stands in them."""
    text = '[account]\nonly-where = { "kind.of" = ["user", "bot"] }\nleave-out = { gone = "true" }\n[account.columns]\nname = "id"\ndisplay = { from = ["n.first", "n.last"] }\n'
    records = '{"id":"a","n":{"first":"A","last":"B"},"kind":{"of":"User"},"gone":false}\n{"id":"b","kind":{"of":"room"}}\n{"id":"c","kind":{"of":"bot"},"gone":true}\n'
    read = reading(tmp_path, text, {"a.jsonl": records}, "json")
    assert read.tables["account"].select("name", "display").rows() == [("a", "A B")]


def test_accounts_are_looked_up_without_regard_to_case(tmp_path: Path) -> None:
    """Where two accounts differ in nothing else, neither is meant."""
    text = '[account.columns]\nname = "L"\n[key.columns]\naccount = { from = "O", ignore-case = true }\nkey = "K"\n'
    files: dict[str, str | bytes] = {"a.csv": "L\nAnna\nBo\nbo\n", "k.csv": "O,K\nANNA,1\nBO,2\nnobody,3\n"}
    read = reading(tmp_path, text, files, account="a.csv", key="k.csv")
    assert read.tables["key"]["account"].to_list() == ["Anna", "BO", "nobody"]


def test_the_first_days_of_1970_are_never(tmp_path: Path) -> None:
    """Written for "never": as a last day, and in zones behind Greenwich, they are not yet over at midnight."""
    columns = 'name = "L"\nends = { from = "E", formats = ["%d/%m/%Y"], plain = "through", zone = "America/Denver" }'
    found = accounts(tmp_path, columns, "L,E\na,01/01/1970\nb,31/12/9999\nc,05/01/1970\n")
    assert [row["ends"] is None for row in found] == [True, True, False]


# rows


def test_rows_are_left_out_by_a_condition(tmp_path: Path) -> None:
    """Words are compared without regard to case and blanks; lines are still told as they stand."""
    rest = 'only-where = { Type = ["User", ""] }\nleave-out = { State = ["Deleted"] }'
    text = f'[account]\n{rest}\n[account.columns]\nname = "L"\nfailed-attempts = "F"\n'
    file = "L,Type,State,F\na,user,on,1\nb,room,on,1\nc, USER ,deleted,1\nd,,on,odd\n"
    read = reading(tmp_path, text, {"a.csv": file})
    assert read.tables["account"]["name"].to_list() == ["a", "d"]
    assert [cell.line for cell in read.intake["account"].unreadable_cells] == [5]
    assert complaints(
        tmp_path, '[account]\nonly-where = { Typ = "User" }\n[account.columns]\nname = "Login"\n'
    ) == ['there is no column "Typ"']


def test_numbered_columns_are_rows(tmp_path: Path) -> None:
    """As many as the file has, in their order; where the first of them is empty, there is no row."""
    text = '[account.columns]\nname = "L"\n[key.columns]\naccount = "L"\nkey = "Key {n}"\nissued = "Key {n} created"\nkind = { always = "api-key" }\n'
    file = "L,Key 10,Key 2,Key 2 created\na,k10,k2,2026-01-05\nb,,k3,2026-02-05\nc,,,\n"
    read = reading(tmp_path, text, {"a.csv": file}, account="a.csv", key="a.csv")
    assert read.tables["key"].select("account", "key").rows() == [("a", "k2"), ("b", "k3"), ("a", "k10")]
    assert read.tables["key"]["issued"].null_count() == 1
    wrong = text.replace("Key {n}", "Token {n}")
    assert complaints(tmp_path, wrong, file, account="a.csv", key="a.csv") == [
        'no column is called like "Token {n}"'
    ]


# files


def test_parts_are_for_the_files_that_have_their_columns(tmp_path: Path) -> None:
    """One table out of exports of two shapes; a file that no part is for is told of."""
    text = """
[[account]]
if-columns = ["Login"]
columns = { name = "Login", display = "Name" }
[[account]]
if-columns = ["uid"]
columns = { name = "uid", display = "cn" }
"""
    files: dict[str, str | bytes] = {"a.csv": "Login,Name\na,A\n", "b.csv": "uid;cn\nb;B\n"}
    assert reading(tmp_path, text, files).tables["account"].rows() == [("a", "A"), ("b", "B")]
    with pytest.raises(KeymalletError, match="none of the parts for account is for this file"):
        reading(tmp_path, text, files | {"c.csv": "x,y\n1,2\n"})


def test_a_file_is_read_by_the_part_with_most_of_its_columns(tmp_path: Path) -> None:
    """Not twice, where it has all columns of a shorter part as well."""
    text = """
[account.columns]
name = "L"
[[grant]]
if-columns = ["L", "R"]
columns = { account = "L", role = "R" }
[[grant]]
if-columns = ["L", "R", "U"]
columns = { account = "L", role = "R", scope = "U" }
"""
    files: dict[str, str | bytes] = {"a.csv": "L\na\n", "g1.csv": "L,R\na,x\n", "g2.csv": "L,R,U\na,y,z\n"}
    read = reading(tmp_path, text, files, account="a.csv", grant="g*.csv")
    assert sorted(read.tables["grant"].select("role", "scope").rows()) == [("x", None), ("y", "z")]


def test_a_folder_of_files_is_one_source_and_their_names_tell(tmp_path: Path) -> None:
    """Local accounts of personal computers: a listing each, and two of the same name are two."""
    text = 'header-line = 0\n[account.columns]\nname = { from = ["@file", "1"], join = "/" }\nlocation = "@file"\n'
    listings: dict[str, str | bytes] = {"pcs/pc.2.txt": "admin\nkim\n", "pcs/pc.1.txt": "admin\n"}
    read = reading(tmp_path, text, listings, account="pcs/*.txt")
    assert read.tables["account"].rows() == [
        ("pc.1/admin", "pc.1"),
        ("pc.2/admin", "pc.2"),
        ("pc.2/kim", "pc.2"),
    ]
    assert [file for file in read.remarks if "not used" in file] == []
    assert complaints(tmp_path, text, account="nowhere/*.txt") == ["no file is called like this"]


def test_each_file_has_its_own_encoding_separator_and_header(tmp_path: Path) -> None:
    """And lines are counted from the file's beginning."""
    text = """
header-line = 3
[[file]]
name = "old/*.csv"
encoding = "windows-1250"
separator = "|"
header-line = 1
[account.columns]
name = "L"
display = "N"
"""
    files: dict[str, str | bytes] = {
        "new.csv": "Report of today\nby the system\nL,N\na,Änne\nb\n",
        "old/x.csv": "L|N\nc|Łucja, Iga\n".encode("windows-1250"),
    }
    read = reading(tmp_path, text, files)
    assert read.tables["account"].rows() == [("a", "Änne"), ("c", "Łucja, Iga")]
    assert [refusal.lines for refusal in read.intake["account"].refusals] == ["5"]
    with pytest.raises(KeymalletError) as raised:
        reading(tmp_path, text.replace('"N"', '"Nam"'), {"new.csv": files["new.csv"]})
    place = raised.value.problems[0].place
    assert place is not None and place.line == 3
    with pytest.raises(KeymalletError, match="the file is shorter"):
        reading(tmp_path, text, {"new.csv": "L,N\n"})


FIXED = '[positions]\nlogin = "1-8"\nname = "9-20"\nstate = "21"\n[account.columns]\nname = "login"\ndisplay = "name"\nenabled = { from = "state", true = ["A"], false = ["D"] }\n'


def test_text_of_fixed_width(tmp_path: Path) -> None:
    """Counted in letters, not bytes; short lines lack their last columns; what is out of order is shown."""
    text = f'ordered-by = "login"\n{FIXED}'
    lines = "ada     Ada Ärven   A\n\nclem    Clém        D\nbirk    Birk\ndorn\tDorn         A\n"
    read = reading(tmp_path, text, {"a.txt": lines}, "text")
    rows = read.tables["account"].select("name", "display", "enabled").rows()
    assert rows == [("ada", "Ada Ärven", True), ("clem", "Clém", False), ("birk", "Birk", None)]
    assert [(each.lines, "tab" in each.reason) for each in read.intake["account"].refusals] == [("5", True)]
    assert any(
        'out of the order of login, the first on line 4: "birk" stands behind "clem"' in each
        for each in read.remarks
    )


@pytest.mark.parametrize(
    ("column_map", "message"),
    [
        (FIXED.replace("9-20", "20-9"), '"20-9" are no positions'),
        (FIXED.replace("1-8", "0-8"), '"0-8" are no positions'),
        (FIXED.replace('"name"', '"nam"'), 'the map gives no positions for the column "nam"'),
        (f'ordered-by = "logn"\n{FIXED}', 'no column "logn" has positions'),
    ],
)
def test_positions_that_are_none(tmp_path: Path, column_map: str, message: str) -> None:
    """Told before a line is read."""
    with pytest.raises(KeymalletError, match=message):
        reading(tmp_path, column_map, {"a.txt": "x\n"}, "text")


@pytest.mark.parametrize(
    ("entry", "message"),
    [
        ('locked = { from = "x", empty = "no" }', "an empty cell cannot mean 'no'"),
        ('created = { from = "x", empty = false }', "an empty cell cannot mean False"),
        ('locked = { from = "x", otherwise = "person" }', "cannot be 'person'"),
        ('kind = { from = "x", otherwise = false }', "cannot be False"),
        ('display = { from = "x", pattern = "(" }', "this is no regular expression"),
        ('display = { from = "x", pattern = "(?<=a)b" }', "this is no regular expression"),
        ("labels = { always = [1] }", "are words, in quotes"),
        ('created = { always = "soon" }', "cannot always be"),
        ("display = { from = [] }", 'say either from = "column" or always = value'),
    ],
)
def test_entries_that_mean_nothing(tmp_path: Path, entry: str, message: str) -> None:
    """A mistake in a map is told with its place, whatever stands in the files."""
    (complaint,) = complaints(tmp_path, f'[account.columns]\nname = "Login"\n{entry}\n')
    assert message in complaint


# when it was true


DATED = '[account]\nas-of = {}\n[account.columns]\nname = "L"\n'


def test_a_column_tells_when_the_rows_were_true(tmp_path: Path) -> None:
    """The oldest counts, for all files; a plain day begins at its midnight; no fact comes of it."""
    files: dict[str, str | bytes] = {"a.csv": "L,Made\na,2026-11-20T06:00:00Z\nb,2026-11-20T06:00:00Z\n"}
    read = reading(tmp_path, DATED.format('"Made"'), files)
    assert read.as_of == datetime(2026, 11, 20, 6, tzinfo=UTC) and read.remarks == []
    assert read.tables["account"].columns == ["name"] and read.supply["account"].keys() == {"name"}
    files["b.csv"] = "L,Made\nc,18.11.2026\nd,\n"
    column = '{ from = "Made", formats = ["iso", "%d.%m.%Y"] }'
    read = reading(tmp_path, DATED.format(column), files)
    assert read.as_of == datetime(2026, 11, 17, 23, tzinfo=UTC), "midnight of the estate's clock"
    files["a.csv"] = "L,Made\na,2026-11-20T06:00:00Z\nb,2026-11-19T06:00:00Z\n"
    read = reading(tmp_path, DATED.format('"Made"'), {"a.csv": files["a.csv"]})
    assert read.as_of == datetime(2026, 11, 19, 6, tzinfo=UTC)
    assert read.remarks == [
        'a.csv: "Made" goes from 2026-11-19 06:00Z to 2026-11-20 06:00Z: the oldest counts'
    ]


@pytest.mark.parametrize(
    ("cell", "remark", "unreadable"),
    [
        ("2027-01-01T00:00:00Z", "as of 2027-01-01 00:00Z, which is after the reading: not used", 0),
        ("", '"Made" dates no row', 0),
        ("soon", '"Made" dates no row', 1),
    ],
)
def test_a_column_that_dates_nothing(tmp_path: Path, cell: str, remark: str, unreadable: int) -> None:
    """It counts as of the reading, and that is said."""
    read = reading(tmp_path, DATED.format('"Made"'), {"a.csv": f"L,Made\na,{cell}\n"})
    assert read.as_of is None and any(remark in told for told in read.remarks)
    assert read.intake["account"].unreadable == unreadable and read.tables["account"].height == 1


def test_what_names_no_date_column_is_a_fault(tmp_path: Path) -> None:
    for written, said in (
        ('{ always = "2026-11-20" }', "this names one column"),
        ('{ from = ["A", "B"] }', "this names one column"),
        ('{ from = "Made", words = { x = "y" } }', '"words" says nothing about instant facts'),
        ('{ from = "Made", formats = ["%Q"] }', "%Q"),
    ):
        assert any(said in complaint for complaint in complaints(tmp_path, DATED.format(written))), written
    assert any("Maed" in complaint for complaint in complaints(tmp_path, DATED.format('"Maed"')))
    section = ExportSection(read="csv", map="map.toml", files={"account": ["a.csv"]}, as_of="2026-11-18")
    write(tmp_path, {"map.toml": DATED.format('"Made"'), "a.csv": "L,Made\na,2026-11-20\n"})
    with ThreadPoolExecutor(2) as workers:
        (read,) = read_export(section, Request("d", tmp_path, CLOCK, AT, workers))
    assert read.as_of == datetime(2026, 11, 17, 23, tzinfo=UTC), "what somebody says goes before"


def test_no_source_gives_exemptions(tmp_path: Path) -> None:
    """Else an export could leave out whom it likes."""
    text = '[account.columns]\nname = "Login"\n[exemption.columns]\nexemption = "x"\n'
    told = complaints(tmp_path, text, account="a.csv", exemption="a.csv")
    assert told == ["exemptions stand in the register, and in no source"]
