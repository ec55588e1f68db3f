"""The railway's rulebook, by the cases that stand beside it."""

from __future__ import annotations

from importlib.resources import files

import pytest

from keymallet.core.judging.verdicts import Verdict
from keymallet.core.rulebook.reading import read_rulebook
from keymallet.core.studies.cases import Case, read_cases, rules_without, try_case

_ESTATE = files("keymallet.demo").joinpath("estate")
BOOK = read_rulebook(_ESTATE.joinpath("rulebook.toml").read_text("utf-8"), "rulebook.toml")
CASES = read_cases(_ESTATE.joinpath("rulebook.cases.toml").read_text("utf-8"), "rulebook.cases.toml", BOOK)


def test_every_rule_has_its_cases() -> None:
    """One that breaches it and one that meets it at least."""
    for verdict in (Verdict.BREACH, Verdict.MET):
        assert [demand.id for demand in rules_without(BOOK, CASES, verdict)] == []


@pytest.mark.parametrize("case", CASES, ids=lambda case: f"{case.rule}-{case.expect.word}-{case.line}")
def test_cases(case: Case) -> None:
    """The verdict is the one the case was written for."""
    assert try_case(case, BOOK).wrong == ""
