"""Lines of JSON that are read quickly come out as they do record by record."""

from __future__ import annotations

import json

import pytest
from hypothesis import given
from hypothesis import strategies as st

from keymallet.core.base.problems import KeymalletError
from keymallet.sources.export import json_blocks
from keymallet.sources.export.json_blocks import rows_of_lines
from keymallet.sources.export.json_path import path_fault
from keymallet.sources.export.json_rows import read_records, read_rows
from keymallet.sources.export.map_checks import read_column_map
from keymallet.sources.export.rows import ExportRows
from tests.profiles import examples
from tests.support import CLOCK

MAP = read_column_map(
    """
title = "M"
list-separator = "|"

[account.columns]
name = "a"
display = "n.m"
mail = "n.o.p"
title = "dotted"
labels = "c"
unit = "b"
""",
    "map.toml",
    CLOCK,
    path_fault,
)
(ROW_MAP,) = MAP.tables["account"]

TEXTS = st.sampled_from(
    ["x", "", "a|b", "|", "Zoë", "\u2028", "true", "5", "\x1f", '"', "a\\", "NaN", "[[", "{"]
)
VALUES = {
    "text": TEXTS,
    "flag": st.booleans(),
    "number": st.integers(-(2**70), 2**70) | st.integers(-9, 9),
    "list": st.lists(TEXTS, max_size=3),
    "any": st.none() | st.floats(allow_nan=False) | st.lists(st.none() | TEXTS | st.integers(0, 2), max_size=2)
    | st.dictionaries(TEXTS, TEXTS, max_size=2) | TEXTS,
}  # fmt: skip
ODD = st.sampled_from([
    "", " ", "{", "[1]", "5", '"x"', "{}", '{"a":1}{"a":2}', '{"a":"x","a":"y"}', '{"a":NaN}', '{"z":NaN}', '{"z":-Inf}',
    '{"a":"\\ud800"}', '{"a":"x",}', '{"a":"x"}\r', ' {"a":"x"}', '{"a":"x"} ', '{"a":"\t"}', '{"n.m":"dots"}',
    '{"n":5}', '{"n":null}', '{"n":{"m":null}}', '{"n":{"o":{"p":{}}}}', '{"a":1e999}', '{"z":1e999}', '{"a":"x"}\n',
    '{"z":' + "[" * 1100 + "]" * 1100 + "}", '{"z":{"z":1,"z":2}}', '{"a":{\n"b":1}}',
])  # fmt: skip


@st.composite
def files(draw: st.DrawFn) -> bytes:
    """Records of a few kinds, with some that are otherwise, or no records, among them."""
    kinds = {name: VALUES[draw(st.sampled_from(list(VALUES)))] for name in ("a", "b", "c", "m", "p")}
    kinds["a"] = draw(st.sampled_from([TEXTS, kinds["a"]]))

    def record() -> str:
        told = {name: draw(kinds[name]) for name in ("a", "b", "c") if draw(st.integers(0, 5))}
        if draw(st.integers(0, 5)):
            told["n"] = {"m": draw(kinds["m"]), "o": {"p": draw(kinds["p"])}, "z": [1, {"y": None}]}
        return json.dumps(told | {"z": draw(VALUES["any"])}, ensure_ascii=draw(st.booleans()))

    lines = [draw(ODD) if not draw(st.integers(0, 12)) else record() for _ in range(draw(st.integers(1, 12)))]
    text = "\n".join(lines) + draw(st.sampled_from(["", "\n"]))
    return text.encode() if draw(st.integers(0, 20)) else text.encode().replace(b"x", b"\xff")


def told(rows: ExportRows) -> object:
    refused = [(each.line, each.reason, each.record) for each in rows.refused]
    columns = {name: column.to_pylist() for name, column in rows.columns.items()}
    return columns, rows.height, rows.lines(range(rows.height)), refused, rows.unused, rows.list_mark


def outcome(data: bytes, *, quickly: bool) -> object:
    try:
        if quickly:
            return told(rows_of_lines(data, "f", ROW_MAP, MAP.list_separator))
        return told(read_rows(read_records(data, "f", None, ""), ROW_MAP, MAP.list_separator))
    except KeymalletError as error:
        return str(error)


@examples(800)
@given(files(), st.sampled_from([1, 60, 300, 1 << 20]), st.sampled_from([1, 3, 1000]))
def test_block_by_block_is_record_by_record(data: bytes, at_once: int, looked_at: int) -> None:
    """Whatever stands in the lines, wherever they are cut, however many of them say what to expect."""
    if data[:4096].lstrip()[:1] != b"{":
        return  # that is said of the file as a whole
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(json_blocks, "_AT_ONCE", at_once)
        patch.setattr(json_blocks, "KEYS_LOOKED_AT", looked_at)
        quickly = outcome(data, quickly=True)
    slowly = outcome(data, quickly=False)
    if looked_at < 1000 and isinstance(quickly, tuple) and isinstance(slowly, tuple):
        # What is not used is said of the records that are looked at.
        quickly, slowly = (found[:4] for found in (quickly, slowly))
    assert quickly == slowly


def test_plain_records_are_read_by_arrow(monkeypatch: pytest.MonkeyPatch) -> None:
    """Flags, numbers, lists and what lies deeper as well; else it would be slow, and nothing would say so."""
    record = {"a": "x", "b": 5, "c": ["k", "l"], "n": {"m": True, "o": {"p": "y"}}, "z": [1, {"y": None}]}
    data = b"\n".join(json.dumps(record | {"a": f"x{n}"}).encode() for n in range(3000))
    monkeypatch.setattr(json_blocks, "_AT_ONCE", 10_000)
    monkeypatch.setattr(json_blocks, "columns_of", None)
    rows = rows_of_lines(data, "f", ROW_MAP, "|")
    assert rows.height == 3000 and rows.columns["c"].to_pylist() == ["k\x1fl"] * 3000
    assert rows.columns["n.m"][2999].as_py() == "true" and rows.lines([0, 2999]) == [1, 3000]
