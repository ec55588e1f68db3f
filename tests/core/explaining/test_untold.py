"""Rules that could be judged of nobody: one line, and one finding, instead of one for each account."""

from __future__ import annotations

import pytest

from keymallet.core.explaining.findings import findings
from keymallet.core.explaining.untold import Untold, untold
from tests.support import evidence, judged, rule

THREE = [{"enabled": True, "kind": "person", "has_password": True} for _ in range(3)]


@pytest.mark.parametrize(
    ("must", "what"),
    [
        ("owner is known", ("owner",)),
        ("owner is known and title is known", ("owner", "title")),
        ("on-roster", ("a staff roster",)),
        ("length(left-out-by) = 0", ("sign-in requirements (gate)",)),
        ("some factor (state = active)", ("factors",)),
        ("setting.min-length >= 12", ("settings",)),
        ("has-password and owner is known", ("owner",)),
    ],
)
def test_what_no_source_tells_of(must: str, what: tuple[str, ...]) -> None:
    """Named once, in the order in which the rule asks; what leaves it decided is not named."""
    judgement = judged(evidence(THREE), rule(must))
    assert untold(judgement) == [Untold(what, ("r",), 3)]
    (found,) = findings(judgement, together=True).rows(named=True)
    assert (found["account"], found["subject"], found["verdict"]) == (None, "all 3 accounts", "unproven")
    assert found["missing"] == [f"{name} (not reported by any source)" for name in what]
    assert findings(judgement).height == 3


def test_what_one_source_tells_of_is_told_account_by_account() -> None:
    """So is what is unknown of some only, and what breaks a rule whatever else is not known."""
    supply = {"d": {"account": ["owner"]}, "e": {"account": ["enabled"]}}
    rows = [{"source": "d", "owner": "x"}, {"source": "e", "enabled": True}]
    for found, must in (
        (evidence(rows, supply), "owner is known"),
        (evidence(THREE), "not enabled and owner is known"),
        (evidence(THREE), "enabled or owner is known"),
    ):
        judgement = judged(found, rule(must))
        assert untold(judgement) == []
        assert findings(judgement, together=True).equals(findings(judgement))
