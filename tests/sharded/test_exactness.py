"""A snapshot in shards comes to what it comes to as a whole: random evidence and rules, many shards or few."""

from __future__ import annotations

import tempfile
from dataclasses import replace
from functools import partial
from pathlib import Path

import polars as pl
import pytest
from hypothesis import given
from hypothesis import strategies as st
from polars.testing import assert_frame_equal

from keymallet.core.explaining.findings import alike
from keymallet.core.explaining.summary import summary
from keymallet.core.facts.evidence import Evidence
from keymallet.core.history.answers import Answers
from keymallet.core.history.block_by_block import told_for_the_first_time
from keymallet.core.judging.judge import judge
from keymallet.core.rulebook.model import Rulebook
from keymallet.core.rulebook.reading import read_rulebook
from keymallet.core.rulebook.register import Register, read_register
from keymallet.outputs.formats import FORMATS
from keymallet.sharded.judging import judged_in_shards, told_in_shards
from keymallet.sharded.opened import opened_shards
from keymallet.sharded.tasks import Basis, Wording
from keymallet.store.snapshot import Snapshot, write_snapshot
from tests.core.reference import World
from tests.core.strategies import CHILDREN, RULEBOOK, evidence_of, expressions, worlds
from tests.profiles import examples, first
from tests.sharded.divided import Divided
from tests.support import AT, CLOCK, days_ago, evidence

ENCODE = partial(FORMATS["jsonl"].encode, spreadsheet=False)
ENTRIES = (
    Answers("manager", kinds=("person",)),
    Answers("owner"),
    Answers("the desk", "desk@o.example", units=("adm*",)),
)
ACROSS = """
[distinct.key]
each = "key"
by = "digest"
[distinct.mail]
who = "enabled"
by = "mail"
within = "source"
[tally.all]
count = "enabled"
between = [1, 2]
[tally.units]
count = "kind = person"
by = "unit"
between = [0, 1]
[tally.sources]
count = "some key (state = active)"
by = "source"
between = [1, 1]
[tally.people]
each = "person"
count = "some account (enabled)"
between = [1, 1]
[rule.settings]
each = "setting"
must = "applies-to is known"
[distinct.setting]
each = "setting"
by = "setting"
[rule.entries-needed]
each = "exemption"
must = "excuses > 0"
[rule.entries-in-use]
each = "exemption"
must = "covers > 0 and length(names-nobody) = 0 and not approves-itself"
"""
REGISTER = """
[exemption.one]
kind = "technical"
accounts = ["d/a0", "a3"]
rules = ["r1-*", "r0-person"]
approved-by = "b"
until = 2030-01-01
[exemption.many]
kind = "accepted-risk"
accounts = ["d/*", "e/nobody"]
rules = ["r2-*", "key"]
until = 2030-01-01
[exemption.nobody]
kind = "accepted-risk"
accounts = ["x/*"]
rules = ["gone"]
"""
TABLES = ("account", "person", *CHILDREN)


def in_shards(found: Evidence, folder: Path, shards: int) -> Snapshot:
    """The evidence as a snapshot of so many shards."""
    return write_snapshot(
        folder,
        version="1",
        estate="e",
        organisation="O",
        clock=CLOCK.key,
        read_at=AT,
        tables=Divided(found, shards),
    )


def told(text: str, title: str = "T", severity: str = "high") -> str:
    """Demands with the title and severity that each needs."""
    heads = ("[rule.", "[tally.", "[distinct.")
    return "".join(
        f"{line}\ntitle = '{title}'\nseverity = '{severity}'\n" if line.startswith(heads) else f"{line}\n"
        for line in text.splitlines()
    )


def book_of(rules: str) -> Rulebook:
    return read_rulebook(f'title = "T"\n{RULEBOOK}\n{rules}', "rulebook.toml")


def register_of(text: str) -> Register:
    return read_register(text, "exemptions.toml", CLOCK)


def assert_exact(snapshot: Snapshot, book: Rulebook, register: Register | None, workers: int = 1) -> None:
    """Counts, numbers, summary and findings are those of the whole."""
    found = snapshot.evidence()
    whole = judge(found, book, AT, CLOCK, register)
    expected = list(told_for_the_first_time(whole, alike(whole, together=True), ENTRIES, structured=True))
    everything = {name: set(frame.columns) for name, frame in found.tables.items()}
    basis = Basis(book, register, AT, CLOCK)
    with opened_shards(snapshot, basis, workers=workers) as shards:
        among_all, short = judged_in_shards(shards, worst=3, in_full=True)
        assert among_all.counts() == whole.counts()
        for name, numbers in whole.numbers.items():
            assert_frame_equal(among_all.numbers[name].select(numbers.columns), numbers)
        other = summary(whole, 3, in_full=True)
        assert (short.breached, short.by_topic, short.besides) == (
            other.breached,
            other.by_topic,
            other.besides,
        )
        assert_frame_equal(short.worst, other.worst)
        for mine, its in zip((short.described, *short.on), (other.described, *other.on), strict=True):
            assert_frame_equal(mine, its)
        told_of_all = told_in_shards(shards, Wording(everything, ENTRIES, None, True, ENCODE))
        assert told_of_all.among_all.counts() == whole.counts()
        assert told_of_all.columns.columns == expected[0].columns
        got = b"".join(told_of_all.encoded)
    assert got.splitlines() == b"".join(map(ENCODE, expected)).splitlines()


def assert_exact_of(found: Evidence, shards: int, rules: str, register: str | None = None) -> None:
    # Hundreds of small files, each synced: in memory, where there is a place for that.
    memory = Path("/dev/shm")
    with tempfile.TemporaryDirectory(dir=memory if memory.is_dir() else None) as made:
        snapshot = in_shards(found, Path(made), shards)
        assert snapshot.shards == shards
        assert_exact(snapshot, book_of(rules), register_of(register) if register else None)


@examples(20)
@given(worlds(9), st.data(), st.sampled_from([2, 3, 7]), st.booleans(), st.booleans())
def test_any_book_comes_to_the_same(
    world: World, data: st.DataObject, shards: int, across: bool, registered: bool
) -> None:
    """Verdicts, since and until, reasons with names, what is missing, who answers, ids: everything."""
    rules = ""
    for table in data.draw(st.lists(st.sampled_from(TABLES), min_size=1, max_size=3, unique=True)):
        pairs = data.draw(st.lists(st.tuples(expressions(table, 2), expressions(table, 2)), max_size=3))
        for number, (who, must) in enumerate(pairs):
            grace = data.draw(st.sampled_from(["", "grace = '2d'\n"]))
            rules += (
                f"[rule.r{number}-{table}]\neach = '{table}'\nwho = '''{who}'''\nmust = '''{must}'''\n{grace}"
            )
    if across or not rules:
        rules += ACROSS
    if not registered:
        rules = rules.split("[rule.entries-needed]")[0]
    found = evidence_of(world)
    named = found.tables["account"].with_columns(
        pl.format("{}/{}", pl.col("source").cast(pl.String), "name").alias("account")
    )
    found = replace(found, tables={**found.tables, "account": named})
    assert_exact_of(found, shards, told(rules), REGISTER if registered else None)


def shared_values() -> Evidence:
    """Forty accounts: a key of all, keys of two, and one of nobody else's; two without an owner."""
    accounts = [
        {
            "kind": "person",
            "enabled": number % 7 != 0,
            "unit": f"u{number % 3}",
            "mail": f"m{number % 9}@o.example",
            "name": f"n{number}",
            "stable_id": f"{number // 2}",
        }
        for number in range(40)
    ]
    keys = [
        {"of": number, "key": f"k{number}", "digest": digest, "state": state}
        for number in range(40)
        for digest, state in (("all", "active"), (f"two-{number // 2}", "active" if number % 5 else None))
    ]
    keys += [
        {"of": None, "account": f"d/gone-{n}", "key": "k", "digest": "all", "state": "active"} for n in (1, 2)
    ]
    return evidence(accounts, key=keys)


SHARED = """
[distinct.key]
each = "key"
who = "state = active"
by = "digest"
[distinct.mail]
by = "mail"
within = "source"
[tally.all]
count = "no key (state = active)"
by = "unit"
between = [1, 2]
"""


@pytest.mark.parametrize("shards", first(2, [2, 7, 3, 40]))
def test_values_are_shared_across_shards(shards: int) -> None:
    """Named with the first who have them, counted with all; unknown where one may count."""
    assert_exact_of(shared_values(), shards, told(SHARED))


def anybodys() -> Evidence:
    """People with accounts; one account of a source that does not tell whose, with an end of its own."""
    people = [{"person": f"p{n}", "name": f"Name {n % 4}", "manager": f"p{(n + 1) % 6}"} for n in range(6)]
    accounts = [
        {"source": "d", "enabled": True, "privileged": n % 2 == 0, "of": n, "person": f"p{n}"}
        for n in range(6)
    ]
    accounts += [{"source": "e", "name": "x", "enabled": True, "ends": days_ago(-3), "starts": days_ago(9)}]
    supply = {
        "d": {
            "account": ["enabled", "privileged", "person", "ends"],
            "person": ["person", "name", "manager"],
        },
        "e": {"account": ["enabled", "privileged", "ends", "starts"]},
    }
    return evidence(accounts, supply, person=people)


OF_PEOPLE = """
[rule.some]
each = "person"
must = "some account (privileged)"
[rule.none-for-long]
each = "person"
must = "no account (privileged and until(ends) > 0d)"
grace = "5d"
[rule.every]
each = "person"
must = "every account (enabled and age(starts) < 9d)"
[rule.count]
each = "person"
must = "count account (until(ends) > 0d or privileged) <= 1"
[rule.from-the-account]
must = "person.status is known or not some factor (state = active)"
"""


@pytest.mark.parametrize("shards", first(2, [2, 7, 3]))
def test_an_account_that_may_be_anybodys_is_asked_about_in_every_shard(shards: int) -> None:
    """Now, in the past and in the future."""
    assert_exact_of(anybodys(), shards, told(OF_PEOPLE))


WANTING = """
[rule.privileged]
must = "privileged = false"
[rule.unreported]
must = "locked = false"
[rule.of-some]
who = "source = 'e'"
must = "privileged = false"
"""


@pytest.mark.parametrize("shards", [2, 7])
def test_what_is_unproven_of_a_whole_shard_stands_in_its_place(shards: int) -> None:
    """Where others of the rule could be judged elsewhere; what no source tells of is told once."""
    accounts = [
        {"source": "de"[n % 3 > 0], "name": f"n{n}", "privileged": None if n % 3 else n % 2 == 0}
        for n in range(12)
    ]
    supply = {"d": {"account": ["privileged"]}, "e": {"account": ["enabled"]}}
    assert_exact_of(evidence(accounts, supply), shards, told(WANTING))


def test_processes_come_to_the_same(tmp_path: Path) -> None:
    """Each begins anew, and gets its part from files."""
    snapshot = in_shards(shared_values(), tmp_path, 3)
    assert_exact(snapshot, book_of(told(SHARED)), register_of(REGISTER), workers=2)
