"""The tables of the logbook, as SQLAlchemy Core knows them; `migrations` makes them."""

from __future__ import annotations

from sqlalchemy import Boolean, Column, Integer, MetaData, String, Table, Text

METADATA = MetaData()

ESTATE = Table(
    "estate",
    METADATA,
    Column("identity", String, primary_key=True),
    Column("organisation", String, nullable=False),
)
"""The one estate that the logbook is of."""

RUN = Table(
    "run",
    METADATA,
    Column("number", Integer, primary_key=True, autoincrement=False),
    Column("digest", String(64), nullable=False),
    Column("previous", String(64), nullable=False, unique=True),
    Column("head", String(64), nullable=False, unique=True),
    Column("signature", Text, nullable=False),
    Column("ran_at", String(27), nullable=False),
    Column("judged_at", String(27), nullable=False),
    Column("outcome", String, nullable=False),
    Column("code", Integer, nullable=False),
    Column("failed", Text, nullable=False),
    Column("snapshot", String(64), nullable=False),
    Column("findings", String(64), nullable=False),
    Column("numbers", Text, nullable=False),
    Column("pruned", Boolean, nullable=False),
)
"""The index of runs: `digest` is that of the run's record, `head` that of the chain up to it, `previous` the
head before it. Instants are in UTC as RFC 3339 writes them, to the microsecond; `numbers` are findings by
state, as JSON. The findings of a run that is `pruned` are no longer kept."""

TRANSITION = Table(
    "transition",
    METADATA,
    Column("run", Integer, primary_key=True),
    Column("finding", String(20), primary_key=True, index=True),
    Column("rule_key", String, nullable=False),
    Column("account_key", String, nullable=False),
    Column("row_key", String, nullable=False),
    Column("rule", String, nullable=False),
    Column("severity", String, nullable=False),
    Column("account", String),
    Column("subject", String),
    Column("source", String),
    Column("unit", String),
    Column("answerer", String),
    Column("was", String, nullable=False),
    Column("state", String, nullable=False),
    Column("cause", String, nullable=False),
    Column("changed", Text, nullable=False),
    Column("first_seen", String(27)),
    Column("times_back", Integer),
)
"""Changes of findings' states, by the run that saw them. Of the first run there are none: all are new."""

LETTER = Table(
    "letter",
    METADATA,
    Column("run", Integer, primary_key=True, autoincrement=False),
    Column("letter", String(32), primary_key=True),
    Column("mail", String, nullable=False),
    Column("fate", String, nullable=False),
    Column("at", String(27), nullable=False),
    Column("said", Text, nullable=False),
)
"""Letters of runs that were sent, or are to be: to whom, what became of each, when, and why. `letter` is what
it is known by in the run: whose it is, and what it is limited to."""
