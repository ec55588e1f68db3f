"""The railway's rulebook, by the cases that stand beside it."""

from __future__ import annotations

from importlib.resources import files

import pytest

from keymallet.core.judging.verdicts import Verdict
from keymallet.core.linking.passes import PASSES
from keymallet.core.rulebook.reading import read_rulebook
from keymallet.core.studies import cases as cases_module
from keymallet.core.studies.cases import Case, read_cases, rules_without, try_case
from keymallet.sources.rulebooks import CASES as ENDING
from keymallet.sources.rulebooks import open_included, shipped_text

_ESTATE = files("keymallet.demo").joinpath("estate")
BOOK = read_rulebook(_ESTATE.joinpath("rulebook.toml").read_text("utf-8"), "rulebook.toml", open_included)
CASES = read_cases(_ESTATE.joinpath("rulebook.cases.toml").read_text("utf-8"), "rulebook.cases.toml", BOOK)


def test_every_rule_has_its_cases() -> None:
    """One that breaches it and one that meets it at least."""
    for verdict in (Verdict.BREACH, Verdict.MET):
        own = (demand for demand in rules_without(BOOK, CASES, verdict) if demand.origin == "rulebook.toml")
        assert [demand.id for demand in own] == []


@pytest.mark.parametrize("case", CASES, ids=lambda case: f"{case.rule}-{case.expect.word}-{case.line}")
def test_cases(case: Case) -> None:
    """The verdict is the one the case was written for."""
    assert try_case(case, BOOK).wrong == ""


@pytest.mark.parametrize(
    "book",
    ["new-accounts", *(pytest.param(name, marks=pytest.mark.deep) for name in ("nist-800-63b-4", "base"))],
)
def test_what_a_rule_does_not_rest_on_need_not_be_worked_out(
    book: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    """With every pass of linking run, each case comes out the same, with the same reason."""
    rulebook = read_rulebook(shipped_text(book), book, open_included)
    text = shipped_text(book, ENDING)

    def told() -> list[tuple[Verdict, str]]:
        few = read_cases(text, book, rulebook)[:: 1 if book == "base" else 4]
        return [(outcome.verdict, outcome.why) for outcome in (try_case(case, rulebook) for case in few)]

    some = told()
    monkeypatch.setattr(cases_module, "passes_for", lambda used: PASSES)
    assert told() == some
