"""Add the roles, entitlements and groups that an application was seen with."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0021"
down_revision = "0020"


def upgrade() -> None:
    """Add the columns; they are filled by the next connection test or reconciliation."""
    with op.batch_alter_table("application") as table:
        table.add_column(sa.Column("seen_values", sa.Text))
        table.add_column(sa.Column("seen_at", sa.String(27)))
