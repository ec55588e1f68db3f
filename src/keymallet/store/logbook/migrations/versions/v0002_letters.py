"""Letters that were sent, so that none goes out twice for the same run."""

import sqlalchemy as sa
from alembic import op

revision = "0002"
down_revision = "0001"
branch_labels = None
depends_on = None


def upgrade() -> None:
    """Make the table."""
    op.create_table(
        "letter",
        sa.Column("run", sa.Integer, primary_key=True, autoincrement=False),
        sa.Column("letter", sa.String(32), primary_key=True),
        sa.Column("mail", sa.String, nullable=False),
        sa.Column("fate", sa.String, nullable=False),
        sa.Column("at", sa.String(27), nullable=False),
        sa.Column("said", sa.Text, nullable=False),
    )
