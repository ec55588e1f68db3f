"""Large files are read in blocks, and come to what they come to in one piece."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import polars as pl
import pytest
from hypothesis import example, given
from hypothesis import strategies as st
from polars.testing import assert_frame_equal

from keymallet.core.base.problems import KeymalletError
from keymallet.core.facts.reading import Reading
from keymallet.engines.spool import Spool
from keymallet.sources.estate import read_estate
from keymallet.sources.export import line_blocks
from keymallet.sources.export.table_file import TableFile
from keymallet.sources.reading import read_sources
from tests.profiles import examples
from tests.support import AT

ESTATE = """
organisation = "Quarry"
clock = "Europe/Zurich"
rulebook = "rules.toml"
[source.weigh-house]
read = "csv"
map = "map.toml"
files = { account = "accounts.csv", factor = "factors.csv" }
"""
MAP = """
[account.columns]
name = "Login"
mail = "Mail"
created = { from = "Made", formats = ["iso", "%d.%m.%Y"], unknown = ["?"] }
enabled = "On"
[factor.columns]
account = "Login"
kind = "Kind"
[factor.columns.state]
from = "State"
words = { on = "active", off = "suspended" }
"""
HEADER = "Login,Mail,Made,On\n"


def estate_in(folder: Path, accounts: bytes, factors: bytes = b"Login,Kind,State\na,otp,on\n") -> None:
    for name, text in (("estate.toml", ESTATE), ("map.toml", MAP)):
        (folder / name).write_text(text, "utf-8")
    (folder / "accounts.csv").write_bytes(accounts)
    (folder / "factors.csv").write_bytes(factors)


def read_in(folder: Path, block: int | None) -> Reading:
    """The estate's one source: in blocks of so many bytes, or in one piece. Raises KeymalletError."""
    estate = read_estate(folder / "estate.toml")
    with Spool(folder / "snapshots") as spool, pytest.MonkeyPatch.context() as patched:
        patched.setattr(line_blocks, "LARGE", 0 if block else 1 << 40)
        patched.setattr(line_blocks, "BLOCK", block or 1)
        (reading,) = read_sources(estate.sources, estate, AT, spool=spool)
        if reading.problems:
            raise KeymalletError(reading.problems)
        # Only where a line ends in a carriage return alone is it read whole all the same.
        csv = (folder / "accounts.csv").read_bytes()
        lone = b"\r" in csv.replace(b"\r\n", b"")
        assert not csv or ("account" in reading.on_disk) == bool(block and not lone)
        reading.hold()
    assert not list(folder.glob("snapshots/*"))
    return reading


def told(reading: Reading) -> dict[str, object]:
    """All that a reading says of what was read, whatever the order of its notes."""
    notes = {
        name: (
            its.read,
            its.refused,
            its.unreadable,
            sorted(its.refusals, key=str),
            sorted(its.unreadable_cells, key=str),
        )
        for name, its in reading.intake.items()
    }
    return {
        "notes": notes,
        "remarks": sorted(reading.remarks),
        "known": reading.known,
        "files": reading.files,
        "supply": reading.supply,
        "empty": reading.empty_files,
        "as of": reading.as_of,
    }


def assert_the_same(folder: Path, block: int) -> None:
    found: list[Reading | list[str]] = []
    for size in (None, block):
        try:
            found.append(read_in(folder, size))
        except KeymalletError as error:
            files = {problem.place.file for problem in error.problems if problem.place}
            assert files <= {"accounts.csv", "accounts.jsonl"} and files
            found.append([str(problem) for problem in error.problems])
    whole, parts = found
    if isinstance(whole, list) or isinstance(parts, list):
        assert whole == parts
        return
    assert told(parts) == told(whole)
    for name, frame in whole.tables.items():
        its = parts.tables[name]
        assert set(its.columns) == set(frame.columns)
        lists = [column for column, kind in frame.schema.items() if isinstance(kind, pl.List)]
        plain = pl.col(lists).fill_null([])
        assert_frame_equal(its.select(frame.columns).with_columns(plain), frame.with_columns(plain))


CELLS = st.sampled_from(
    [
        "a",
        "b",
        "c d",
        "",
        " ",
        "2026-01-02",
        "31.12.2025",
        "2027-01-01",
        "?",
        "9999-12-31",
        "yes",
        "no",
        "ü",
        "a",
    ]
)
WRITTEN = st.one_of(
    CELLS,
    CELLS.map('"{}"'.format),
    # Text after a closing quote is refused where the strict reader has to look, in a file as in a block.
    st.sampled_from(['"x, y"', '"two\nlines"', '"say ""yes"""', '5" disk', '"\r\n"', 'x"', "\r"]),
)
ROWS = st.lists(WRITTEN, min_size=3, max_size=5).map(",".join)
ENDS = st.sampled_from(["\n", "\n", "\n", "\r\n", "\n\n"])


@examples(300)
@given(
    st.lists(st.tuples(ROWS, ENDS), max_size=14),
    st.sampled_from([7, 23, 64, 300]),
    st.sampled_from(["", '"', "tail", "\xff"]),
)
@example([('n,"open', "\n"), ("m,x,,", "\n")], 7, "")
def test_any_file_comes_to_the_same(
    tmp_path_factory: pytest.TempPathFactory, rows: list[tuple[str, str]], block: int, tail: str
) -> None:
    """Quotes well placed or not, records of several lines, ragged ones, names that stand again, no last end."""
    folder = tmp_path_factory.mktemp("quarry")
    text = HEADER + "".join(row + end for row, end in rows)
    data = text.encode() + (b"\xff" if tail == "\xff" else tail.encode())
    estate_in(folder, data)
    assert_the_same(folder, block)


def test_names_that_stand_again_are_refused_with_their_lines(tmp_path: Path) -> None:
    """In whatever block: the first one counts."""
    rows = [f"u{place % 7},m{place}@q.example,2026-01-{place + 1:02},yes\n" for place in range(20)]
    rows.insert(3, "\n")
    estate_in(tmp_path, (HEADER + "".join(rows)).encode())
    reading = read_in(tmp_path, 100)
    assert reading.tables["account"]["mail"].to_list() == [f"m{place}@q.example" for place in range(7)]
    lines = [refusal.line for refusal in reading.intake["account"].refusals]
    assert sorted(lines) == [place + 3 for place in range(7, 20)]
    assert_the_same(tmp_path, 100)


def test_an_instant_after_the_reading_becomes_unknown_in_its_block(tmp_path: Path) -> None:
    """As it does in one piece."""
    rows = [f"u{place},,20{place + 20}-01-01,yes\n" for place in range(12)]
    estate_in(tmp_path, (HEADER + "".join(rows)).encode())
    assert read_in(tmp_path, 64).tables["account"]["created"].null_count() == 5
    assert_the_same(tmp_path, 64)


def test_the_oldest_row_of_all_blocks_dates_the_file(tmp_path: Path) -> None:
    """As it does in one piece, with the same remark on how far its rows are apart."""
    rows = "".join(f"u{place},,2026-10-{20 - place:02},yes\n" for place in range(12))
    estate_in(tmp_path, (HEADER + rows).encode())
    (tmp_path / "map.toml").write_text(f'[account]\nas-of = "Made"\n{MAP}', "utf-8")
    dated = read_in(tmp_path, 64).as_of
    assert dated is not None and dated.isoformat() == "2026-10-08T22:00:00+00:00"
    assert_the_same(tmp_path, 64)


def test_a_file_that_changes_meanwhile_is_told(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Between looking for names that stand again, and finding their lines."""
    rows = "".join(f"u{place % 5},,,yes\n" for place in range(20))
    estate_in(tmp_path, (HEADER + rows).encode())
    look = TableFile._refuse_repeated

    def meanwhile(*given: Any) -> None:
        estate_in(tmp_path, (HEADER + rows.replace("u4", "u9")).encode())
        look(*given)

    monkeypatch.setattr(TableFile, "_refuse_repeated", meanwhile)
    with pytest.raises(KeymalletError, match="changed while it was read"):
        read_in(tmp_path, 40)


@pytest.mark.parametrize(
    "beginning", [b"\xff\xfe", b"\r\n", b"\n"], ids=["UTF-16", "blank line", "another blank line"]
)
def test_what_cannot_be_taken_apart_is_read_whole(tmp_path: Path, beginning: bytes) -> None:
    """Whatever its size."""
    text = HEADER + "".join(f"u{place},,,yes\n" for place in range(40))
    data = beginning + (text.encode("utf-16-le") if beginning == b"\xff\xfe" else text.encode())
    estate_in(tmp_path, data)
    estate = read_estate(tmp_path / "estate.toml")
    with Spool(tmp_path) as spool, pytest.MonkeyPatch.context() as patched:
        patched.setattr(line_blocks, "LARGE", 0)
        patched.setattr(line_blocks, "BLOCK", 50)
        (reading,) = read_sources(estate.sources, estate, AT, spool=spool)
    assert "account" not in reading.on_disk
    assert reading.tables["account"].height == 40


def test_a_line_without_end_is_refused_after_few_blocks(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """With its number, and before all of it is read."""
    estate_in(tmp_path, (HEADER + "a,,,yes\nb," + "x" * 4_000).encode())
    monkeypatch.setattr(line_blocks, "LARGEST_RECORD", 200)
    with pytest.raises(KeymalletError, match="longer than") as told_so:
        read_in(tmp_path, 100)
    (problem,) = told_so.value.problems
    assert problem.place is not None
    assert (problem.place.file, problem.place.line) == ("accounts.csv", 3)


def test_a_disk_that_is_full_is_told(tmp_path: Path) -> None:
    """While rows are put away: the source is not read, and nothing is left."""
    estate_in(tmp_path, (HEADER + "a,,,yes\n" * 3).encode())
    (tmp_path / "snapshots").symlink_to("/proc/none")
    with pytest.raises(KeymalletError, match="no file can be made"):
        read_in(tmp_path, 20)


def test_whoever_comes_too_late_leaves_nothing(tmp_path: Path) -> None:
    """A source that is past its time goes on for a while: what it puts away then is refused."""
    with Spool(tmp_path) as spool:
        table = spool.table([pl.DataFrame({"name": ["a"]})])
        assert len(list(tmp_path.iterdir())) == 1
    with pytest.raises(KeymalletError, match="has ended"):
        table.add(pl.DataFrame({"name": ["b"]}))
    assert not list(tmp_path.iterdir())


JSON_ESTATE = (
    ESTATE.replace('"csv"', '"json"')
    .replace("accounts.csv", "accounts.jsonl")
    .replace("factors.csv", "accounts.jsonl")
)
JSON_MAP = """
list-separator = "|"
[account.columns]
name = "login"
mail = "more.mail"
created = { from = "made", unknown = ["?"] }
enabled = "on"
groups = "groups"
[factor]
rows = "factors"
[factor.columns]
account = "^login"
kind = "kind"
"""
RECORDS = st.one_of(
    st.fixed_dictionaries(
        {"login": st.sampled_from(["a", "b", "c", "", "a", None])},
        optional={
            "made": st.sampled_from(["2026-01-02", "?", "never", "2027-01-01", 5]),
            "on": st.sampled_from([True, False, "yes", "x"]),
            "more": st.fixed_dictionaries({"mail": st.sampled_from(["m@q.example", "ü", None])}),
            "groups": st.lists(st.sampled_from(["g", "h"]), max_size=2),
            "factors": st.lists(st.fixed_dictionaries({"kind": st.sampled_from(["otp", "x"])}), max_size=2),
            "else": st.just(1),
        },
    ).map(json.dumps),
    st.sampled_from(["", "  ", "[1]", "{", "7", '{"login": "d"} {"login": "e"}', '{"login": NaN}']),
)


@examples(200)
@given(
    st.lists(st.tuples(RECORDS, st.sampled_from(["\n", "\n", "\r\n"])), max_size=12),
    st.sampled_from([7, 60, 300]),
    st.booleans(),
)
def test_any_json_lines_come_to_the_same(
    tmp_path_factory: pytest.TempPathFactory, records: list[tuple[str, str]], block: int, ends: bool
) -> None:
    """Records that are no JSON, lists in them, names that stand again, lines without anything."""
    folder = tmp_path_factory.mktemp("json")
    estate_in(folder, b"")
    text = '{"login": "first", "factors": []}\n' + "".join(record + end for record, end in records)
    (folder / "estate.toml").write_text(JSON_ESTATE, "utf-8")
    (folder / "map.toml").write_text(JSON_MAP, "utf-8")
    (folder / "accounts.jsonl").write_text(text if ends else text.rstrip("\r\n"), "utf-8", newline="")
    assert_the_same(folder, block)
