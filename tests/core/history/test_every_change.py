"""Random estates, rulebooks, registers and instants, two after one another: what holds of every change."""

from __future__ import annotations

from datetime import datetime, timedelta

import polars as pl
from hypothesis import given
from hypothesis import strategies as st

from keymallet.core.facts.evidence import Evidence
from keymallet.core.history.columns import FINDING
from keymallet.core.history.identity import Identities, finding_ids, rule_keys
from keymallet.core.history.states import BROKEN, ENDS, LASTING, Cause, State
from keymallet.core.judging.judge import judge
from keymallet.core.judging.verdicts import Verdict
from keymallet.core.rulebook.model import Rulebook
from keymallet.core.rulebook.reading import read_rulebook
from keymallet.core.rulebook.register import Register, read_register
from tests.core.history.weeks import Weeks
from tests.core.reference import World
from tests.core.strategies import evidence_of, expressions, rules_of, worlds
from tests.profiles import examples
from tests.support import AT, CLOCK

BOOKS = st.lists(st.tuples(expressions("account", 2), expressions("account", 2)), min_size=1, max_size=3)
KEY_RULES = st.lists(st.tuples(expressions("key", 1), expressions("key", 1)), max_size=2)
REGISTERS = st.sampled_from(
    [
        "",
        '[exemption.e]\nkind = "technical"\naccounts = ["d/*"]\nrules = ["r0"]\nreason = "R"\n',
        '[exemption.e]\nkind = "technical"\naccounts = ["*"]\nrules = ["r*"]\nreason = "R"\nuntil = 2026-11-25\n',
    ]
)
INSTANTS = st.integers(0, 4).map(lambda half: AT + timedelta(hours=12 * half))
WORSE = {str(state) for state in (State.MENDED, State.ACCOUNT_GONE, State.ENDED)}


def book_of(pairs: list[tuple[str, str]], keys: list[tuple[str, str]]) -> str:
    """Rules on accounts, r0 and so on, and rules on keys, k0 and so on."""
    on_keys = rules_of("key", keys).partition("[rule.")[2]
    return rules_of("account", pairs) + ("[rule." + on_keys if keys else "").replace("[rule.r", "[rule.k")


def kinds(found: Evidence, book: Rulebook, register: Register | None, at: datetime) -> dict[str, str]:
    """What each row of each rule comes to, by the finding's id: judged anew, row by row."""
    judgement = judge(found, book, at, CLOCK, register)
    identities = Identities(judgement)
    words = {int(Verdict.BREACH): "breach", int(Verdict.EXEMPT): "exempt", int(Verdict.UNPROVEN): "unproven"}
    told: dict[str, str] = {}
    for demand in book.rules:
        keys = identities.of_table(demand.table).with_columns(
            pl.lit(rule_keys(book)[demand.id]).alias("rule-key")
        )
        ids = finding_ids(keys).to_list()
        codes = judgement.codes[demand.id].to_list()
        told |= {key: words.get(code, "nothing") for key, code in zip(ids, codes, strict=True)}
    return told


def stood(state: str | None) -> str:
    if state is None or state in map(str, ENDS):
        return "nothing"
    if state in map(str, BROKEN):
        return "breach"
    return "exempt" if state == State.EXEMPT else "unproven"


@examples(60)
@given(worlds(), worlds(), BOOKS, BOOKS, KEY_RULES, REGISTERS, REGISTERS, INSTANTS, st.data())
def test_every_change_has_one_cause_and_the_causes_lead_from_the_first_verdicts_to_the_second(
    first: World,
    second: World,
    pairs: list[tuple[str, str]],
    others: list[tuple[str, str]],
    keys: list[tuple[str, str]],
    register: str,
    later_register: str,
    at: datetime,
    data: st.DataObject,
) -> None:
    """Judged anew, step after step: the kind of finding turns at the step that is named, and not after it."""
    same_world = data.draw(st.booleans())
    old_text = book_of(pairs, keys)
    new_text = old_text if data.draw(st.booleans()) else book_of(others, keys)
    old = evidence_of(first)
    new = old if same_world else evidence_of(second)
    weeks = Weeks()
    weeks.run(old, old_text, register)
    before = weeks.table
    changes = weeks.run(new, new_text, later_register, at)
    assert before is not None and weeks.table is not None
    books = [read_rulebook(f'title = "T"\n{text}', "rulebook.toml") for text in (old_text, new_text)]
    entries = [
        read_register(text, "register.toml", CLOCK) if text else None for text in (register, later_register)
    ]
    told = [
        (Cause.TIME, kinds(old, books[0], entries[0], at)),
        (Cause.RULEBOOK, kinds(old, books[1], entries[0], at)),
        (Cause.REGISTER, kinds(old, books[1], entries[1], at)),
        (Cause.FACTS, kinds(new, books[1], entries[1], at)),
    ]
    was = {row[FINDING]: row["state"] for row in before.drop_nulls("state").iter_rows(named=True)}
    now = {row[FINDING]: row["state"] for row in weeks.table.drop_nulls("state").iter_rows(named=True)}
    changed = {row[FINDING]: row for row in changes}
    assert len(changed) == len(changes), "one change for each finding"
    assert not weeks.table[FINDING].is_duplicated().any()
    for finding in was.keys() | now.keys() | changed.keys():
        path = [stood(was.get(finding)), *(kind.get(finding, "nothing") for _, kind in told)]
        row = changed.get(finding)
        if row is None:
            # Nothing turned: what is open now was open before.
            assert stood(now[finding]) == stood(was[finding]) or now[finding] == State.NOT_SEEN
            continue
        turns = [place for place in range(1, len(path)) if path[place] != path[place - 1]]
        if row["state"] == State.NOT_SEEN:
            assert path[-1] in ("unproven", "nothing"), path
            continue
        assert path[-1] == stood(row["state"]), (path, row)
        assert str(told[turns[-1] - 1][0]) == row["cause"], (path, row)


@examples(40)
@given(worlds(), worlds(), BOOKS, KEY_RULES, st.sets(st.sampled_from("de"), min_size=1))
def test_a_source_not_read_never_mends(
    first: World, second: World, pairs: list[tuple[str, str]], keys: list[tuple[str, str]], unread: set[str]
) -> None:
    """Whatever the second evidence seems to say of it."""
    weeks = Weeks()
    text = book_of(pairs, keys)
    weeks.run(evidence_of(first), text)
    changes = weeks.run(evidence_of(second), text, at=AT + timedelta(days=1), not_read=unread)
    assert not [row for row in changes if row["source"] in unread and row["state"] in WORSE]
    assert weeks.table is not None
    lasting = weeks.table.filter(pl.col("state").is_in(list(map(str, LASTING))))[FINDING]
    ended = {row[FINDING] for row in changes if row["state"] in map(str, ENDS)}
    assert not ended & set(lasting), "what has ended is not carried on"
