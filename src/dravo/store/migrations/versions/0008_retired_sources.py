"""Add the time at which a source was retired."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0008"
down_revision = "0007"


def upgrade() -> None:
    """Add the column."""
    with op.batch_alter_table("source") as table:
        table.add_column(sa.Column("retired_at", sa.String(27)))
