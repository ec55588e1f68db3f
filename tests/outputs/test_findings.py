"""Findings in open formats: exact, and told apart from what a spreadsheet would make of them."""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Callable
from itertools import pairwise
from typing import Any

import pytest

from keymallet.core.explaining.findings import COLUMNS, findings
from keymallet.core.facts.gaps import Gap
from keymallet.core.judging.judge import Judgement
from keymallet.core.judging.run import Run
from keymallet.outputs.formats import FORMATS
from keymallet.outputs.run_record import run_record, to_run_file
from keymallet.outputs.values import OutputRows
from tests.support import AT, CLOCK, evidence, judged, rule

FORMULAS = ["=1+1", "+1", "-1", "@SUM(A1)", "\t=1", '=cmd|"x"!A1', "plain", 'quo"te, and\nbreak']


def judgement() -> Judgement:
    """Everybody in breach, with names that spreadsheets would run."""
    accounts = [{"display": name, "enabled": False} for name in FORMULAS]
    return judged(evidence(accounts), rule("enabled") + 'cite = ["A 1", "B 2"]\nadvice = "Do."')


def run_of(found: Judgement) -> Run:
    book = found.rulebook
    return Run(
        organisation="O", at=AT, clock=CLOCK, rulebook_title=book.title, rulebook_edition=book.edition,
        rulebook_digest="b", rulebook_files={"r.toml": "b"}, register_file="", register_digest="", snapshot_digest="d", read_at=AT, sources=1, accounts=len(FORMULAS),
        counts=found.counts(), refused=2, unreadable=1, gaps=[Gap("refused", "d", "d: 2 records refused")], accepted=[],
    )  # fmt: skip


def written(form: str, spreadsheet: bool = False) -> str:
    found = judgement()
    rows = OutputRows([findings(found)], run_record(run_of(found)), "findings", spreadsheet)
    return b"".join(FORMATS[form].write(rows)).decode()


PARSERS: dict[str, Callable[[str], list[dict[str, Any]]]] = {
    "csv": lambda text: list(csv.DictReader(io.StringIO(text, newline=""))),
    "json": lambda text: json.loads(text)["findings"],
    "jsonl": lambda text: [json.loads(line) for line in text.splitlines()],
}
"""How a program reads each format back. A format that is not here is not tested, and fails below."""


def test_every_format_is_read_back() -> None:
    """By a parser that is not ours."""
    assert PARSERS.keys() == FORMATS.keys()


@pytest.mark.parametrize("form", FORMATS)
def test_every_format_gives_every_column_of_every_finding(form: str) -> None:
    """The same names and the same values in all of them."""
    rows = PARSERS[form](written(form))
    assert [row["display"] for row in rows] == FORMULAS
    assert all(tuple(row) == COLUMNS for row in rows)
    assert rows[0]["because"] == "is switched off"
    assert rows[0]["cite"] in ("A 1 | B 2", ["A 1", "B 2"])


def test_formulas_are_defused_only_where_a_spreadsheet_is_meant() -> None:
    """Exact otherwise: a program that reads the file wants the value itself."""
    rows = list(csv.DictReader(io.StringIO(written("csv", spreadsheet=True), newline="")))
    assert [row["display"] for row in rows] == ["'" + name for name in FORMULAS[:6]] + FORMULAS[6:]


def test_the_run_is_told_with_the_findings() -> None:
    """Organisation, instant, rulebook and snapshot with digests, what was not read, each rule's counts."""
    found = judgement()
    for told in (json.loads(written("json")), json.loads(to_run_file(run_of(found)))):
        assert told["organisation"] == "O"
        assert told["judged-at"] == "2026-11-24T09:00:00Z"
        assert told["rulebook"]["sha256"] == "b"
        assert (told["snapshot"]["blake3"], told["snapshot"]["records-refused"]) == ("d", 2)
        assert told["gaps"] == [{"gap": "refused", "about": "d", "text": "d: 2 records refused"}]
        assert told["rules"][0] | {"title": ""} == {
            "rule": "r", "title": "", "severity": "high", "topic": None, "in-scope": 8, "met": 0, "breach": 8, "pending": 0, "exempt": 0,
            "unproven": 0
        }  # fmt: skip


@pytest.mark.parametrize("form", FORMATS)
@pytest.mark.parametrize("spreadsheet", [False, True])
@pytest.mark.parametrize("cuts", [(1,), (0, 2, 2), (1, 2, 3), (100,)])
def test_in_parts_every_format_gives_the_same_bytes(
    form: str, spreadsheet: bool, cuts: tuple[int, ...]
) -> None:
    """However many parts there are, and with empty ones among them."""
    found = findings(judgement())
    at = [0, *cuts, found.height]
    parts = [found[start:end] for start, end in pairwise(at)]
    rows = OutputRows(parts, {"of": 1}, "findings", spreadsheet)
    whole = OutputRows([found], {"of": 1}, "findings", spreadsheet)
    assert b"".join(FORMATS[form].write(rows)) == b"".join(FORMATS[form].write(whole))


@pytest.mark.parametrize("form", FORMATS)
def test_nothing_is_a_row(form: str) -> None:
    """No finding is a header, an empty list or no line; and what reads it reads no row."""
    rows = OutputRows([findings(judgement()).clear()], {}, "findings")
    assert PARSERS[form](b"".join(FORMATS[form].write(rows)).decode()) == []
