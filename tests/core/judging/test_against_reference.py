"""The compiled language against a slow reference, on random expressions and random facts."""

from __future__ import annotations

import re

import polars as pl
from hypothesis import example, given
from hypothesis import strategies as st

from keymallet.core.explaining.reason_templates import TEMPLATES
from keymallet.core.facts.declaration import ACCOUNT
from keymallet.core.facts.model import Kind
from keymallet.core.judging.verdicts import Verdict
from keymallet.core.language.functions import FUNCTIONS
from tests.core.reference import CALLS, Evaluator, World
from tests.core.strategies import (
    CHILDREN,
    CONSTANTS,
    LIMITS,
    TERMS,
    evidence_of,
    expected_verdict,
    expressions,
    parsed,
    rules_of,
    worlds,
)
from tests.profiles import examples
from tests.support import AT, judged

QUICK = examples(100)
FEW = examples(30)


def _agrees(world: World, table: str, pairs: list[tuple[str, str]]) -> None:
    rows = {"account": world.accounts, "person": world.people, **world.children}[table]
    if not rows:
        return
    found = evidence_of(world)
    judgement = judged(found, rules_of(table, pairs))
    for number, (who, must) in enumerate(pairs):
        codes = judgement.codes[f"r{number}"].to_list()
        for row, code in zip(rows, codes, strict=True):
            evaluator = Evaluator(world, table, row)
            expected = expected_verdict(evaluator.value(parsed(who)), evaluator.value(parsed(must)))
            assert Verdict(code) is expected, (who, must, row)


@QUICK
@given(worlds(), st.lists(st.tuples(expressions("account"), expressions("account")), min_size=1, max_size=6))
def test_rules_on_accounts_agree_with_the_reference(world: World, pairs: list[tuple[str, str]]) -> None:
    """Kleene logic, questions about rows and unknown facts come out as written down in the reference."""
    _agrees(world, "account", pairs)


@FEW
@given(worlds(), st.sampled_from(CHILDREN), st.data())
def test_rules_on_rows_agree_with_the_reference(world: World, table: str, data: st.DataObject) -> None:
    """`each` gives a verdict for every row; what it asks of the account, or of its other rows, is looked up."""
    pairs = data.draw(
        st.lists(st.tuples(expressions(table, 2), expressions(table, 2)), min_size=1, max_size=4)
    )
    _agrees(world, table, pairs)


@QUICK
@given(worlds(), st.lists(st.tuples(expressions("person"), expressions("person")), min_size=1, max_size=4))
def test_rules_on_people_agree_with_the_reference(world: World, pairs: list[tuple[str, str]]) -> None:
    """What is asked of somebody's accounts is open where it is not known whose an account is."""
    _agrees(world, "person", pairs)


@QUICK
@given(worlds(), expressions("account"), expressions("account"))
@example(
    World(
        [dict.fromkeys(ACCOUNT.names) | {"source": "d", "name": "a0", "of": None}],
        {},
        {"d": {"account": []}},
        AT,
        LIMITS,
        {name: parsed(text) for name, text in TERMS.items()},
    ),
    "enabled",
    "usable",
)
def test_every_shortcoming_is_explained(world: World, who: str, must: str) -> None:
    """Each breach has a reason in words, each unproven verdict names at least one missing fact."""
    from keymallet.core.explaining.findings import findings

    found = evidence_of(world)
    told = findings(judged(found, rules_of("account", [(who, must)])), structured=True)
    _explained(told, who, must)


@QUICK
@given(worlds(), expressions("person"), expressions("person"))
def test_every_shortcoming_of_people_is_explained(world: World, who: str, must: str) -> None:
    """So it is where a rule is for people and asks of their accounts."""
    from keymallet.core.explaining.findings import findings

    if world.people:
        told = findings(judged(evidence_of(world), rules_of("person", [(who, must)])), structured=True)
        _explained(told, who, must)


def _explained(found: pl.DataFrame, who: str, must: str) -> None:
    for finding in found.iter_rows(named=True):
        # What is said is about something that the rule asks about.
        asked = set(re.findall(r"[a-z][a-z-]+", " ".join([who, must, *TERMS.values()]))) - {
            "and",
            "or",
            "not",
            "is",
        }
        if finding["verdict"] == "breach":
            assert finding["because"], (who, must)
            assert not finding["because"].startswith("not the case"), (who, must, finding["because"])
            assert finding["reasons"], (who, must)
            for reason in finding["reasons"]:
                assert reason["template"] in TEMPLATES
                assert asked & set(re.findall(r"[a-z][a-z-]+", reason["about"])), (who, must, reason)
        else:
            assert finding["missing"], (who, must)
            for fact in finding["missing"]:
                assert fact.endswith(")") or fact.startswith("accounts of which"), fact


def test_the_reference_knows_every_function() -> None:
    """Else random expressions would never be held against anything."""
    assert CALLS.keys() == {name for name, function in FUNCTIONS.items() if not function.internal}


def test_functions_of_every_kind_are_drawn() -> None:
    """What a column of each kind can be given to, at random: no function is left out."""
    drawn: set[str] = set()
    for kind in CONSTANTS.keys() | {Kind.WORDS}:
        drawn |= {function.name for function in FUNCTIONS.values() if kind in function.takes}
    assert drawn - {"surely"} == CALLS.keys()
