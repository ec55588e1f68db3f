"""A large export is looked at in pieces: whole rows from all over it, and their lines are those of the file."""

from __future__ import annotations

import csv
import io
import json
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from keymallet.fitting import pieces, sample
from keymallet.fitting.pieces import pieces_of
from tests.profiles import examples
from tests.support import run

CELLS = st.lists(st.text(st.sampled_from('ab",\n \u00e9'), max_size=12), min_size=2, max_size=2)


def small(patch: pytest.MonkeyPatch) -> None:
    """As if a few hundred bytes were very much."""
    for name, size in (("_FIRST", 60), ("_PIECE", 20), ("_NUMBER", 10), ("_AT_ONCE", 7)):
        patch.setattr(pieces, name, size)
    patch.setattr(sample, "LARGE", 500)


def written(rows: list[list[str]]) -> bytes:
    text = io.StringIO()
    csv.writer(text, lineterminator="\n").writerows([["Login", "Name"], *rows])
    return text.getvalue().encode()


@examples(200)
@given(st.lists(CELLS, min_size=40, max_size=80))
def test_rows_are_whole_and_on_their_own_lines(
    tmp_path_factory: pytest.TempPathFactory, cells: list[list[str]]
) -> None:
    """Cells may hold quotes, separators and line ends."""
    rows = [[f"u{number}", *row] for number, row in enumerate(cells)]
    file = tmp_path_factory.mktemp("pieces") / "f.csv"
    file.write_bytes(written(rows))
    with pytest.MonkeyPatch.context() as patch:
        small(patch)
        found = pieces_of(file)
    assert found is not None
    text = found.data.decode()
    kept = list(csv.reader(io.StringIO(text, newline="")))[1:]
    assert all(row in rows for row in kept) and kept == sorted(kept, key=rows.index)
    lines = file.read_bytes().split(b"\n")
    for number, line in enumerate(found.data.split(b"\n")[:-1], start=1):
        assert lines[found.line_of(number) - 1] == line


def test_what_has_no_rows_that_can_be_told_apart_is_looked_at_whole(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """One document, a quote that is never closed, line ends of another kind, two bytes a letter."""
    small(monkeypatch)
    rows = written([[f"u{number}", "x" * 20] for number in range(90)])
    odd = {
        "list.json": json.dumps([{"login": f"u{number}"} for number in range(90)]).encode(),
        "open.csv": rows.replace(b"u3,", b'"u3,', 1),
        "mac.csv": rows.replace(b"\n", b"\r"),
        "utf16.csv": rows.decode().encode("utf-16"),
    }
    for name, data in odd.items():
        (tmp_path / name).write_bytes(data)
        assert pieces_of(tmp_path / name) is None, name


@pytest.mark.parametrize("form", ["csv", "jsonl"])
def test_fit_says_what_it_looked_at_and_on_which_line_it_failed(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, form: str
) -> None:
    """A word from the very end of the file is in the map; a row that cannot be read is told by its own line."""
    small(monkeypatch)
    monkeypatch.setattr(pieces, "_PIECE", 200)
    rows = [[f"u{number}", "Active" if number < 1900 else "Locked out"] for number in range(2000)]
    if form == "csv":
        data = "Login,Status\n" + "".join(f"{login},{status}\n" for login, status in rows)
        data = data.replace("u1999,Locked out", "u1999,Locked out,more")
    else:
        data = "".join(json.dumps({"login": login, "status": status}) + "\n" for login, status in rows)
        data = data.replace('{"login": "u1999"', '{"login" "u1999"')
    (tmp_path / f"accounts.{form}").write_text(data)
    told = " ".join(run("fit", f"accounts.{form}", cwd=tmp_path, expect=0).stdout.split())
    assert "bytes were looked at, all over the file" in told and "Locked out" in told
    assert "tried on what was looked at" in told
    assert f"line {2001 if form == 'csv' else 2000}" in told, told
