"""Runs, and the changes of findings' states between them."""

import sqlalchemy as sa
from alembic import op

revision = "0001"
down_revision = None
branch_labels = None
depends_on = None


def upgrade() -> None:
    """Make the tables."""
    op.create_table(
        "estate",
        sa.Column("identity", sa.String, primary_key=True),
        sa.Column("organisation", sa.String, nullable=False),
    )
    op.create_table(
        "run",
        sa.Column("number", sa.Integer, primary_key=True, autoincrement=False),
        sa.Column("digest", sa.String(64), nullable=False),
        sa.Column("previous", sa.String(64), nullable=False, unique=True),
        sa.Column("head", sa.String(64), nullable=False, unique=True),
        sa.Column("signature", sa.Text, nullable=False),
        sa.Column("ran_at", sa.String(27), nullable=False),
        sa.Column("judged_at", sa.String(27), nullable=False),
        sa.Column("outcome", sa.String, nullable=False),
        sa.Column("code", sa.Integer, nullable=False),
        sa.Column("failed", sa.Text, nullable=False),
        sa.Column("snapshot", sa.String(64), nullable=False),
        sa.Column("findings", sa.String(64), nullable=False),
        sa.Column("numbers", sa.Text, nullable=False),
        sa.Column("pruned", sa.Boolean, nullable=False),
    )
    texts = ("rule_key", "account_key", "row_key", "rule", "severity")
    known = ("account", "subject", "source", "unit", "answerer")
    op.create_table(
        "transition",
        sa.Column("run", sa.Integer, primary_key=True),
        sa.Column("finding", sa.String(20), primary_key=True),
        *(sa.Column(name, sa.String, nullable=False) for name in texts),
        *(sa.Column(name, sa.String) for name in known),
        *(sa.Column(name, sa.String, nullable=False) for name in ("was", "state", "cause")),
        sa.Column("changed", sa.Text, nullable=False),
        sa.Column("first_seen", sa.String(27)),
        sa.Column("times_back", sa.Integer),
    )
    op.create_index("ix_transition_finding", "transition", ["finding"])
