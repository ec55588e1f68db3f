"""`keymallet fit`: a map guessed, shown, tried; measured on made-up exports of very different shapes."""

from __future__ import annotations

import csv
import io
import json
import tomllib
from collections import Counter
from datetime import date, datetime, timedelta
from pathlib import Path
from tempfile import TemporaryDirectory
from zoneinfo import ZoneInfo

import polars as pl
import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from keymallet.core.base.problems import KeymalletError
from keymallet.core.facts.declaration import TABLES
from keymallet.fitting.dates import DAY_FIRST, MONTH_FIRST, find_dates
from keymallet.fitting.guess import Guess, guess
from keymallet.fitting.map_text import map_text
from keymallet.fitting.matching import SURE, Asked, Match
from keymallet.fitting.sample import read_sample
from keymallet.fitting.trial import try_map
from keymallet.fitting.vocabulary import vocabulary
from keymallet.sources.export.instants import read_instants
from keymallet.sources.export.map_checks import read_column_map
from tests.fitting.exports import EXPORTS, NOW, ROWS, Export, login
from tests.profiles import examples
from tests.support import AT, CLOCK, run, write

TODAY = NOW.date()


def guessed(data: bytes | str, file: str = "export.csv", **asked: str) -> Guess:
    data = data.encode() if isinstance(data, str) else data
    found = guess(read_sample(data, file), TODAY, Asked(facts=asked))
    assert found is not None
    return found


def matches(found: Guess) -> dict[tuple[str, str], Match]:
    return {(part.table.name, match.fact.name): match for part in found.parts for match in part.matches}


def expected(export: Export) -> dict[tuple[str, str], str]:
    return {(table, fact): column for table, told in export.expected.items() for fact, column in told.items()}


@pytest.mark.parametrize("export", EXPORTS, ids=lambda export: export.file)
def test_every_column_of_every_export_is_found(export: Export) -> None:
    """The table, the fact of each column, the formats of the dates; and nothing that is not there."""
    found = guessed(export.data, export.file)
    assert {key: match.column.header for key, match in matches(found).items()} == expected(export)
    formats = {each for match in matches(found).values() for each in match.fit.options.get("formats", [])}
    assert formats == export.formats


def test_what_is_called_sure_is_right_and_most_is_sure() -> None:
    """Over all the exports; the columns that are no facts count as well, for they must not become one."""
    tally: Counter[str] = Counter()
    for export in EXPORTS:
        for key, match in matches(guessed(export.data, export.file)).items():
            tally[match.sureness, expected(export).get(key) == match.column.header] += 1  # type: ignore[index]
    assert tally[SURE, False] == 0  # type: ignore[index]
    assert tally[SURE, True] >= 0.9 * tally.total()  # type: ignore[index]


@pytest.mark.parametrize("export", EXPORTS, ids=lambda export: export.file)
def test_the_map_reads_the_whole_file(tmp_path: Path, export: Export) -> None:
    """It is a map that the command read takes, and no cell and no row is lost by it."""
    file = tmp_path / export.file
    file.write_bytes(export.data)
    found = guessed(export.data, export.file)
    text = map_text(found, today=TODAY, clock="UTC")
    reading = try_map(text, file, found.export.format, ZoneInfo("UTC"), AT)
    for table, intake in reading.intake.items():
        assert (intake.refused, intake.unreadable) == (0, 0), (table, intake.unreadable_cells[:3])
        assert intake.read > 0
    if "account" in reading.intake:
        assert reading.tables["account"]["name"].to_list() == [login(number) for number in range(ROWS)]
        last = reading.tables["account"]["last-sign-in"].drop_nulls()
        assert last.max() < NOW and last.min() > NOW - timedelta(days=700)  # type: ignore[operator]


def test_a_list_in_a_cell_is_rows_and_a_word_for_nothing_is_none(tmp_path: Path) -> None:
    """Who has no second factor has no row of one; an empty list is not a list that is not known."""
    export = next(each for each in EXPORTS if each.file == "italian.csv")
    (tmp_path / export.file).write_bytes(export.data)
    text = map_text(guessed(export.data, export.file), today=TODAY, clock="UTC")
    reading = try_map(text, tmp_path / export.file, "csv", CLOCK, AT)
    of_fourth = reading.tables["factor"].filter(pl.col("account") == login(3))
    of_third = reading.tables["factor"].filter(pl.col("account") == login(2))
    assert of_fourth.is_empty() and of_third["kind"].to_list() == ["password", "otp", "biometric"]


def test_of_very_many_values_only_some_are_looked_at() -> None:
    """A login that repeats once in 20,000 is found; what is rare is found when the map is tried."""
    rows = [f"u{n},u{n}@x.example,{'-' if n % 2 else 'guest'}" for n in range(20_000)]
    found = guessed("login,mail,type\n" + "\n".join(rows))
    logins = matches(found)["account", "name"].column
    assert (logins.distinct, len(logins.values)) == (20_000, 4_000)
    assert matches(found)["account", "name"].score == 1.0
    twice = "login,mail\n" + "\n".join(row.rpartition(",")[0] for row in rows + rows[:9_000])
    assert guess(read_sample(twice.encode(), "twice.csv"), TODAY, Asked()) is None


# dates


@given(
    st.lists(st.datetimes(datetime(2001, 1, 1), datetime(2035, 1, 1)), min_size=30, max_size=40, unique=True),
    st.sampled_from(
        "%d.%m.%Y;%d/%m/%Y %H:%M;%m/%d/%Y %I:%M %p;%Y-%m-%d %H:%M:%S;%d-%b-%Y;%Y%m%d%H%M%S;%b %d, %Y"
        ";%d/%m/%y;%Y/%m/%d %H:%M;%d %B %Y %H:%M;%m-%d-%Y %H:%M:%S".split(";")
    ),
)
def test_a_format_that_is_found_reads_back_what_was_written(instants: list[datetime], written: str) -> None:
    """Through the reader itself, for any dates: where they can only be read one way, they are."""
    instants = [instant.replace(second=0, microsecond=0) for instant in instants]
    values = dict.fromkeys(instant.strftime(written) for instant in instants)
    found = find_dates(dict.fromkeys(values, 1))
    if not found.proven:
        return
    assert found.share == 1.0 and not found.unread
    text = (
        f'[account.columns]\nname = "n"\ncreated = {{ from = "c", formats = {json.dumps(found.formats)} }}\n'
    )
    (row_map,) = read_column_map(text, "m", ZoneInfo("UTC")).tables["account"]
    cell = next(cell for cell in row_map.cells if cell.column.name == "created")
    read, unread, _ = read_instants(pl.Series(list(values)), cell)
    assert unread is None
    assert [each.strftime(written) for each in read] == list(values)


@pytest.mark.parametrize(
    ("values", "order", "proven"),
    [
        (["03/04/2026", "13/04/2026"], DAY_FIRST, True),
        (["03/04/2026", "04/13/2026"], MONTH_FIRST, True),
        (["03/04/2026", "05/06/2026"], DAY_FIRST, False),
        (["03/04/2026", "10/12/2026"], MONTH_FIRST, False),  # a 10th of December has not been yet
    ],
)
def test_day_or_month_first(values: list[str], order: str, proven: bool) -> None:
    """What cannot be told from the values is said to be so; what has happened lies in no future."""
    found = find_dates(dict.fromkeys(values, 1), latest=date(2026, 11, 24))
    assert (found.order, found.proven) == (order, proven)


def test_another_column_of_the_file_tells_the_order() -> None:
    """One export is written in one way."""
    found = matches(guessed("login,created,expires\na,01/02/2026,03/04/2027\nb,01/03/2026,04/25/2027\n"))
    assert {match.fit.dates.order for match in found.values() if match.fit.dates} == {MONTH_FIRST}


def test_the_order_that_no_value_tells_is_only_likely() -> None:
    """And the map says so."""
    found = guessed("login,created\na,01/02/2026\nb,02/03/2026\n")
    assert matches(found)["account", "created"].sureness == "likely"
    assert "taken as day first: no value tells" in map_text(found, today=TODAY, clock="UTC")


# what is said


def test_zone_letters_and_utc_in_a_header() -> None:
    """Letters are given the estate's clock, to be looked over; a header that says UTC is believed."""
    data = "login,last login,created (UTC)\na,24.11.2026 08:00 CET,24.11.2026 08:00\n"
    text = map_text(guessed(data), today=TODAY, clock="Europe/Zurich")
    read = tomllib.loads(text)
    assert read["dates"]["zones"] == {"CET": "Europe/Zurich"}
    assert read["account"]["columns"]["created"]["zone"] == "UTC"


def test_what_is_unsure_stands_in_the_map_as_a_comment() -> None:
    """It is for a person to take in."""
    data = "login,x7,note\n" + "".join(f"a{n},{'guest' if n % 2 else 'service'},{n}\n" for n in range(9))
    text = map_text(guessed(data), today=TODAY, clock="UTC")
    assert '# kind = "x7"  # unsure: by its values alone' in text
    assert "kind" not in tomllib.loads(text)["account"]["columns"]
    assert "#   note" in text


def test_a_column_that_is_not_what_its_header_says() -> None:
    """It is left out, and the reason given."""
    found = guessed("login,last sign-in\na,often\nb,seldom\n")
    assert found.unused == {
        "last sign-in": "called like last-sign-in, but these are no dates that can be read"
    }


def test_no_secret_is_shown_and_no_escape_reaches_the_terminal(tmp_path: Path) -> None:
    """Hashes, tokens; control characters in headers and values."""
    data = 'login,password hash,t,"st\x1b[31m"\na,$6$salt$Zm9vYmFyYmF6cXV4,k9J2mQ7xW4tR8vB3nL6pYz,"x\x1b]0;y\x07"\n'
    write(tmp_path, {"e.csv": data + "b,{SSHA}c2VjcmV0c2VjcmV0,h5T2mQ7xW4tR8vB3nL6pQz,z\n"})
    told = run("fit", "e.csv", "--output", "m.toml", cwd=tmp_path, expect=0).stdout
    told += (tmp_path / "m.toml").read_text("utf-8")
    for secret in ("Zm9v", "c2Vj", "k9J2", "h5T2", "\x1b", "\x07"):
        assert secret not in told
    assert "not shown: may be secret" in told


def test_a_map_is_written_once_and_reading_uses_it(tmp_path: Path) -> None:
    """The lines at its head are what the estate needs; what somebody looked over is not written over."""
    export = EXPORTS[0]
    write(tmp_path, {export.file: export.data})
    run("fit", export.file, "--output", "map.toml", cwd=tmp_path, expect=0)
    text = (tmp_path / "map.toml").read_text("utf-8")
    section = "\n".join(line.removeprefix("#") for line in text.splitlines() if line.startswith("#     "))
    book = '[rule.r]\ntitle = "r"\nseverity = "low"\nmust = "enabled"\n'
    estate = f'organisation = "T"\nclock = "UTC"\nrulebook = "b.toml"\n{section.replace("NAME", "works")}\n'
    write(tmp_path, {"estate.toml": estate, "b.toml": f'title = "T"\n{book}'})
    assert f"{ROWS} accounts" in run("read", cwd=tmp_path, expect=0).stdout
    again = run("fit", export.file, "--output", "map.toml", cwd=tmp_path, expect=2)
    assert "exists already" in again.stderr and (tmp_path / "map.toml").read_text("utf-8") == text


def test_a_guess_can_be_corrected(tmp_path: Path) -> None:
    """With --set: another column, or none; what names nothing is refused with the nearest name."""
    write(tmp_path, {"e.csv": "login,nick,mail\na,b,a@x.example\nc,d,c@x.example\n"})
    told = run(
        "fit", "e.csv", "--set", "name=nick", "--set", "mail=", "--output", "m.toml", cwd=tmp_path, expect=0
    )
    assert tomllib.loads((tmp_path / "m.toml").read_text("utf-8"))["account"]["columns"]["name"] == "nick"
    assert "mail" not in tomllib.loads((tmp_path / "m.toml").read_text("utf-8"))["account"]["columns"]
    assert "told" in told.stdout and "no column tells: stable-id, display, mail, person," in told.stdout
    again = run("fit", "e.csv", "--set", "name=nick", "--set", "mail=", cwd=tmp_path, expect=0).stdout
    assert "keymallet fit e.csv --set name=nick --set mail= --output MAP.toml" in again
    for words, hint in (
        (["--set", "nmae=nick"], 'did you mean "name"?'),
        (["--set", "name=nik"], 'did you mean "nick"?'),
        (["--set", "name"], "--set name=Login"),
        (["--table", "acount"], 'did you mean "account"?'),
    ):
        assert hint in run("fit", "e.csv", *words, cwd=tmp_path, expect=2).stderr


@pytest.mark.parametrize(
    ("data", "told"),
    [
        ("", "the file is empty"),
        ("\n\n \n", "the file is empty"),
        ("a,b,c\n", "there are no rows"),
        ("<!doctype html><html></html>", "a page or XML"),
        ("a\0b,c\nx,y\n", "this is no text"),
        ("a@x.example,2026-01-02\nb@x.example,2026-01-03\n", "the first line names no columns"),
        (
            "Export\n\nxx,yy,zz\na,a@x.example,yes\nb,b@x.example,no\n",
            "the first line has 1 of the 3 cells",
        ),
        ("login,login\na,b\n", "stands only once"),
        ('login,mail\n"a,b@x.example\n', "a quote opens"),
        ("colour,size\nred,1\nred,2\n", "say which it is, as in --set name=COLUMN"),
        ("[" * 100_000, "nested too deeply"),
        ('{"a":' * 100_000 + "1" + "}" * 100_000, "nested too deeply"),
        ("[1,2]", "no record could be read"),
        ("{}", "no column looks like"),
    ],
)
def test_what_is_no_export_is_refused_with_what_to_do(tmp_path: Path, data: str, told: str) -> None:
    """No traceback, code 2, nothing written."""
    write(tmp_path, {"e.csv": data})
    ended = run("fit", "e.csv", "--output", "m.toml", cwd=tmp_path, expect=2)
    assert told in ended.stderr and "Traceback" not in ended.stderr
    assert not (tmp_path / "m.toml").exists()


@pytest.mark.parametrize(
    "data",
    [
        'login,"a = ""b"" # c\\\\",mail\nx,y,z@x.example\n',
        "login,mail\n" + "a" * 3_000_000 + ",a@x.example\n",
        '{"login":"a","we\\"ird":"x","dot.ted":"y","":"z","[x]":"q","@":"m","^u":"v"}\n{"login":"b"}\n',
        '{"login":"a","x":[1,{"y":2}],"z":{}}\n{"login":"b","x":"s","z":null}\nnot json\n[1]\n',
        "login;mail\nä;ä@x.example\n".encode("utf-16"),
        "login,mail\ra,a@x.example\rb,b@x.example\r",
        '{"login":null}\n' * 3,
    ],
    ids=["quotes", "long", "names", "mixed", "utf-16", "cr", "nulls"],
)
def test_odd_files_are_gone_through(tmp_path: Path, data: str | bytes) -> None:
    """Whatever stands in headers and values, the map that comes out is one that can be read."""
    write(tmp_path, {"e": data})
    run("fit", "e", "--output", "m.toml", cwd=tmp_path, expect=0)
    read_column_map((tmp_path / "m.toml").read_text("utf-8"), "m.toml", CLOCK)


def test_the_vocabulary_names_facts_and_words_that_there_are() -> None:
    """A word taught to a fact that does not exist would never be used."""
    known = vocabulary()
    concepts = {concept for several in known.stems.values() for concept in several}
    for name, patterns in known.patterns.items():
        assert patterns.keys() <= set(TABLES[name].names), name
        for several in patterns.values():
            assert all(pattern.must | pattern.may <= concepts for pattern in several), (name, several)
    for name, words in known.words.items():
        table, fact = name.split(".")
        column = TABLES[table].column(fact)
        assert column is not None and set(words.values()) <= ({*column.words} or {"true", "false"}), name


_CELL = st.one_of(
    st.sampled_from(
        ["", "-", "never", "yes", "no", "a@x.example", "2026-01-02", "03/04/2026", "1764000000", "a;b", "[]"]
    ),
    st.text(max_size=8),
)
_JSON = st.recursive(
    st.none() | st.booleans() | st.integers(-9, 2**40) | _CELL,
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.text(max_size=5), inner, max_size=3),
    max_leaves=8,
)


def _held(data: bytes) -> None:
    """Either it is refused in our own words, or a map comes out that reads the file."""
    with TemporaryDirectory() as folder:
        file = Path(folder) / "e"
        file.write_bytes(data)
        try:
            found = guess(read_sample(data, "e"), TODAY, Asked())
            if found is not None:
                try_map(
                    map_text(found, today=TODAY, clock="UTC"), file, found.export.format, ZoneInfo("UTC"), AT
                )
        except KeymalletError as error:
            assert "the guessed map" not in str(error.problems[0].place)


@examples(60)
@given(
    st.lists(st.lists(_CELL, min_size=2, max_size=4), max_size=6),
    st.sampled_from(["login", "id", "mail", "Gültig bis"]),
)
@example(
    [["", "a;b", "n"], ["\U00012887Ê\x80", "yes"], ["=Ìa\x17\x97s\x1b\U000d8a78", "a@x.example", "", ""]],
    "Gültig bis",
)
def test_any_table_is_refused_or_read(rows: list[list[str]], header: str) -> None:
    """Whatever stands in the cells, and in the names of the columns."""
    out = io.StringIO()
    csv.writer(out).writerows([[header, *(rows[0] if rows else [])], *rows])
    _held(out.getvalue().encode("utf-8", "replace"))


@examples(60)
@given(
    st.lists(
        st.dictionaries(
            st.sampled_from(["login", "id", "keys", "a.b", 'q"', ""]) | st.text(max_size=4), _JSON
        ),
        max_size=5,
    )
)
def test_any_records_are_refused_or_read(records: list[dict[str, object]]) -> None:
    """Whatever is nested in them."""
    _held("\n".join(json.dumps(record) for record in records).encode())


@examples(60)
@given(st.binary(max_size=200))
def test_any_bytes_are_refused_or_read(data: bytes) -> None:
    """Most of them are no export at all."""
    _held(data)
