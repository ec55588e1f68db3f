"""Readings that are linked shard after shard come to what they come to when linked as a whole."""

from __future__ import annotations

import tempfile
from dataclasses import replace
from datetime import timedelta
from pathlib import Path
from typing import Any

import polars as pl
from hypothesis import given
from hypothesis import strategies as st
from polars.testing import assert_frame_equal

from keymallet.core.base.columns import is_repeated
from keymallet.core.facts.declaration import TABLES
from keymallet.core.facts.evidence import (
    ACCOUNT_ROW,
    CANDIDATES,
    NOTHING_KNOWN,
    PERSON_ROW,
    SHARED_ID,
    UNREAD,
    data_type,
)
from keymallet.core.facts.reading import Reading
from keymallet.core.facts.shards import is_in_every_shard
from keymallet.core.linking.declared import Federation, MatchRule, SourcePair
from keymallet.core.linking.linked import LinkingRules
from keymallet.core.linking.passes import link
from keymallet.engines.spool import Spool
from keymallet.sharded.linking import ReadingsInShards
from keymallet.store.snapshot import write_snapshot
from tests.profiles import examples
from tests.support import AT, CLOCK, days_ago

NAMES = ("ada", "Ada", "bo", "cy", "cy.adm", "di", "x")
MAILS = ("ada@o.example", "ADA@o.example", "bo@o.example", "cy@o.example")
PEOPLE = ("1", "2", "3", "4")
TIMES = (days_ago(1), days_ago(1.02), days_ago(9), days_ago(9.3), days_ago(40), AT.replace(hour=0, minute=0))
VALUES: dict[str, dict[str, tuple[Any, ...]]] = {
    "account": {
        "person": PEOPLE,
        "mail": MAILS,
        "display": NAMES,
        "stable-id": ("0", "1", "2", "3"),
        "owner": (*PEOPLE, "ada", "bo@o.example", "dir/cy"),
        "manager": (*NAMES, *PEOPLE),
        "kind": ("person", "guest", "service"),
        "groups": (["g"], ["g", "h"], []),
        "enabled": (True, False),
        "last-sign-in": TIMES,
        "created": TIMES,
        "password-changed": TIMES,
        "password-digest": ("p", "q", "r"),
        "has-password": (True, False),
        "allowed-hours": (["mon-fri 08:00-17:00"], ["never"]),
        "unit": ("u", "v"),
    },
    "key": {"digest": ("k", "l", "m"), "kind": ("ssh-key", "api-key"), "state": ("active",)},
    "factor": {
        "kind": ("otp", "passkey"),
        "state": ("active", "pending"),
        "device": ("SN 1048223", "SN 1048224"),
        "label": ("SN 1048223", "my phone 2"),
    },
    "grant": {"role": ("admin", "reader"), "mode": ("on-request", "standing"), "starts": TIMES},
    "elevation": {
        "role": ("admin", "reader"),
        "reason": ("the lift stands still again", "The lift stands still, again!", "x"),
        "approved-by": (*NAMES, *MAILS, *PEOPLE),
        "starts": TIMES,
        "closed": TIMES,
        "outcome": ("opened", "refused"),
    },
    "sign-in": {"at": TIMES, "outcome": ("success", "failure")},
    "setting": {"applies-to": (["everyone"], ["g"], ["ada"], []), "lock-after": (0, 2)},
    "gate": {
        "state": ("in-force", "on-trial"),
        "covers": (["everyone"], ["g"], ["ada", "nobody"], ["person"]),
        "leaves-out": (["h"], ["cy"], []),
        "asks-for": (["any-second"], ["passkey"]),
    },
    "person": {"mail": MAILS, "name": NAMES, "status": ("present", "left"), "leaves": TIMES},
}
UNKNOWN_NOW_AND_THEN = 6


@st.composite
def tables_of(draw: st.DrawFn, source: str) -> Reading:
    """A source with some tables, each with some columns."""
    is_roster = source.startswith("staff")
    names = ["account", *draw(st.lists(st.sampled_from(sorted(VALUES)), max_size=5, unique=True))]
    if is_roster:
        names.append("person")
    reading = Reading(source)
    for table in dict.fromkeys(names):
        if table == "person" and not is_roster:
            continue
        columns = draw(st.lists(st.sampled_from(sorted(VALUES[table])), max_size=9, unique=True))
        reading.tables[table] = draw(rows_of(table, columns, is_roster))
        reading.supply[table] = dict.fromkeys([TABLES[table].required, *columns], source)
    if draw(st.integers(0, 5)) == 0:
        reading.incomplete = ["it stopped short"]
    reading.strays_expected = draw(st.integers(0, 3)) == 0
    return reading


@st.composite
def rows_of(draw: st.DrawFn, table: str, columns: list[str], is_roster: bool) -> pl.DataFrame:
    required = TABLES[table].required
    if table in ("account", "person", "gate", "setting"):
        keys = {"account": NAMES, "person": PEOPLE, "gate": ("one", "two"), "setting": ("s", "t")}[table]
        most = 0 if is_roster and table == "account" else len(keys)
        first = draw(st.lists(st.sampled_from(keys), max_size=most, unique=True))
    else:
        first = draw(st.lists(st.sampled_from((*NAMES, "gone", "bo@o.example")), max_size=8))
    data: dict[str, list[Any]] = {"account" if TABLES[table].of_account else required: first}
    for name in columns:
        values = st.sampled_from((None, *VALUES[table][name]))
        data[name] = draw(st.lists(values, min_size=len(first), max_size=len(first)))
    kinds = {name: data_type(column) for name in data if (column := TABLES[table].column(name))}
    frame = pl.DataFrame(data, schema={name: kinds.get(name, pl.String()) for name in data})
    notes = draw(st.lists(st.integers(0, UNKNOWN_NOW_AND_THEN), min_size=len(first), max_size=len(first)))
    if UNKNOWN_NOW_AND_THEN in notes and columns:
        words = {1: [columns[0]], UNKNOWN_NOW_AND_THEN: [NOTHING_KNOWN]}
        frame = frame.with_columns(
            pl.Series(UNREAD, [words.get(note) for note in notes], dtype=pl.List(pl.String))
        )
    return frame


RULES = st.builds(
    LinkingRules,
    st.just(CLOCK),
    st.lists(
        st.sampled_from(
            [
                MatchRule("name", person="person"),
                MatchRule("name", like="*.adm", person="name"),
                MatchRule("mail", person="mail"),
                MatchRule("mail", person="mail-name"),
                MatchRule("name", like="*.adm", login_in="dir"),
                MatchRule("owner", person="person", kinds=("service",)),
                MatchRule("display", login_in="dir", sources=("cloud",)),
            ]
        ),
        max_size=3,
        unique=True,
    ).map(tuple),
    st.lists(
        st.sampled_from(
            [
                SourcePair(("dir", "cloud"), facts=("enabled", "unit")),
                SourcePair(("cloud", "app"), by="mail", kinds=("person",), facts=("kind",)),
                SourcePair(("dir", "app"), by="person", facts=("password-changed",)),
            ]
        ),
        max_size=2,
        unique=True,
    ).map(tuple),
    st.lists(
        st.sampled_from(
            [Federation("app", "cloud"), Federation("cloud", "dir", by="mail"), Federation("dir", "app")]
        ),
        max_size=2,
        unique=True,
    ).map(tuple),
)


def some_on_disk(readings: list[Reading], spool: Spool, rows: int) -> list[Reading]:
    """The same readings, with the rows of their tables on disk, in parts of so many."""
    given = []
    for reading in readings:
        parts = {
            name: spool.table(frame.iter_slices(rows))
            for name, frame in reading.tables.items()
            if not is_in_every_shard(name) and frame.height
        }
        bare = {
            name: reading.tables[name].clear() if name in parts else frame
            for name, frame in reading.tables.items()
        }
        given.append(replace(reading, tables=bare, on_disk=dict(parts)))
    return given


def plain(frame: pl.DataFrame) -> pl.DataFrame:
    """Rows in an order of their own, without numbers; what could not be read of none is nothing."""
    bare = frame.drop(ACCOUNT_ROW, PERSON_ROW, SHARED_ID, strict=False)
    written = [
        (pl.col(name).list.sort() if name == UNREAD else pl.col(name)).list.join("|")
        if isinstance(kind, pl.List)
        else pl.col(name)
        for name, kind in bare.schema.items()
    ]
    texts = bare.with_columns(written)
    if UNREAD in texts.columns:
        texts = texts.with_columns(pl.col(UNREAD).fill_null(""))
    numbers = [name for name, kind in texts.schema.items() if isinstance(kind, pl.Duration)]
    texts = texts.with_columns(pl.col(numbers).cast(pl.Int64)).with_columns(pl.all().cast(pl.String))
    return texts.select(sorted(texts.columns)).sort(pl.all())


def named(tables: dict[str, pl.DataFrame]) -> dict[str, pl.DataFrame]:
    """The tables with the account of every row by its name."""
    accounts = tables["account"]["account"]
    return {
        name: frame.with_columns(pl.coalesce(accounts.gather(frame[ACCOUNT_ROW]), "account").alias("account"))
        if ACCOUNT_ROW in frame.columns
        else frame
        for name, frame in tables.items()
    }


def without_names(remarks: list[str]) -> list[str]:
    """What is remarked, but for the names: of many, others may be the first."""
    led = ("not tied", "people stand", "rows name")
    return [
        remark.rpartition(": ")[0] if any(each in remark for each in led) else remark for remark in remarks
    ]


def told(reading: Reading) -> tuple[Any, ...]:
    strays = {
        name: (its.strays, sorted(its.stray_names), its.stray_by, its.found_by)
        for name, its in reading.intake.items()
    }
    return reading.source, reading.supply, strays, without_names(reading.remarks)


@examples(40)
@given(
    st.tuples(*(tables_of(source) for source in ("dir", "cloud", "app", "staff", "staff-2"))),
    RULES,
    st.sampled_from([2, 3, 7]),
    st.sampled_from([0, 2]),
)
def test_shard_after_shard_is_as_a_whole(
    given_readings: tuple[Reading, ...], rules: LinkingRules, shards: int, on_disk: int
) -> None:
    """Whose accounts are, twins, provers, gates, shared values, strays: every fact, and what is remarked."""
    readings = [replace(reading, tables=dict(reading.tables)) for reading in given_readings]
    whole = link(given_readings, rules)
    memory = Path("/dev/shm")
    with (
        tempfile.TemporaryDirectory(dir=memory if memory.is_dir() else None) as made,
        Spool(Path(made)) as spool,
    ):
        coming = some_on_disk(readings, spool, on_disk) if on_disk else readings
        snapshot = write_snapshot(
            Path(made) / "snapshots",
            version="1",
            estate="e",
            organisation="O",
            clock=CLOCK.key,
            read_at=AT,
            tables=ReadingsInShards(coming, rules, shards),
        )
        assert snapshot.shards == shards
        found = snapshot.evidence()
        parts = [snapshot.shard(number) for number in range(shards)]
    for reading in whole.readings:
        record = snapshot.manifest.sources[reading.source]
        its = replace(reading, supply=record.supply, intake=record.intake, remarks=record.remarks)
        assert told(its) == told(reading)
    expected, got = named(dict(whole.tables)), named(found.tables)
    assert set(got) == set(expected)
    for name, frame in expected.items():
        columns = [column for column in frame.columns if column not in (ACCOUNT_ROW, PERSON_ROW)]
        known = got[name].with_columns(
            pl.lit(None, dtype=frame.schema[column]).alias(column)
            for column in columns
            if column not in got[name].columns
        )
        unread = {UNREAD, CANDIDATES} & set(known.columns) - set(columns)
        assert not any(known[column].count() and known[column].list.len().max() for column in unread), name
        assert_frame_equal(plain(known.select(columns)), plain(frame))
    if "stable-id" in whole.accounts.columns:
        ids = whole.accounts.select("account", "source", "stable-id")
        several = ids.with_columns(is_repeated(ids.select("source", "stable-id")).alias(SHARED_ID))
        marked = pl.concat([part.tables["account"].select("account", SHARED_ID) for part in parts])
        both = several.drop_nulls("stable-id").join(marked, on="account", suffix=" in shards")
        assert both[SHARED_ID].to_list() == both[f"{SHARED_ID} in shards"].to_list()


def test_a_chain_of_relations_lies_in_one_shard() -> None:
    """However long: every login is the mail of the next."""
    number = 300
    frame = pl.DataFrame(
        {
            "name": [f"n{place:03}" for place in range(number)],
            "mail": [f"n{place + 1:03}" for place in range(number)],
        }
    )
    readings = [
        Reading(source, {"account": frame}, {"account": {"name": "x", "mail": "x"}}) for source in ("a", "b")
    ]
    chain = MatchRule("mail", login_in="b", sources=("a", "b"))
    with tempfile.TemporaryDirectory() as made:
        coming = ReadingsInShards(readings, LinkingRules(CLOCK, (chain,)), 5)
        heights = [tables["account"].height for tables in coming.shards(Path(made))]
    assert sorted(heights) == [0, 0, 0, 0, 2 * number]


def test_hours_and_days_of_passwords_are_counted_over_all_shards() -> None:
    """A batch of passwords shows, whatever shards its accounts lie in."""
    changed = [AT - timedelta(days=place) for place in range(40)] + [AT - timedelta(days=400)] * 40
    frame = pl.DataFrame({"name": [f"n{place}" for place in range(80)], "password-changed": changed})
    reading = Reading("d", {"account": frame}, {"account": {"name": "x", "password-changed": "x"}})
    whole = link([replace(reading, tables=dict(reading.tables))], LinkingRules(CLOCK)).accounts
    with tempfile.TemporaryDirectory() as made:
        coming = ReadingsInShards([reading], LinkingRules(CLOCK), 7)
        parts = [tables["account"] for tables in coming.shards(Path(made))]
    both = pl.concat(parts).select("name", "password-set-with").sort("name")
    assert_frame_equal(both, whole.select("name", "password-set-with").sort("name"))
    assert (both["password-set-with"] > 0).sum() == 40


def test_a_twin_may_hide_in_any_shard(tmp_path: Path) -> None:
    """One account without a key on each side: of whoever has no twin, it is not known that there is none."""
    pair = LinkingRules(CLOCK, pairs=(SourcePair(("a", "b"), by="mail"),))
    for number in range(4):
        readings = []
        for source in ("a", "b"):
            names = [f"{source}{place}" for place in range(9)] + [f"{source}-without-{number}"]
            mails: list[str | None] = [f"{name}@o.example" for name in names]
            mails[-1] = None
            unread = [None] * 9 + [["mail"]]
            frame = pl.DataFrame({"name": names, "mail": mails}).with_columns(pl.Series(UNREAD, unread))
            readings.append(Reading(source, {"account": frame}, {"account": {"name": "x", "mail": "x"}}))
        scratch = tmp_path / f"{number}"
        scratch.mkdir()
        parts = [tables["account"] for tables in ReadingsInShards(readings, pair, 7).shards(scratch)]
        for part in parts:
            assert part["no-twin-in"].null_count() == part.height
