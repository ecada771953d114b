"""Add descriptions of local groups."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0029"
down_revision = "0028"


def upgrade() -> None:
    """Add the column; no group has a description yet."""
    with op.batch_alter_table("group") as table:
        table.add_column(sa.Column("description", sa.Text))
