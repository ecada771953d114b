"""Add notes to sources."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0004"
down_revision = "0003"


def upgrade() -> None:
    """Add the column."""
    with op.batch_alter_table("source") as table:
        table.add_column(sa.Column("note", sa.Text()))
