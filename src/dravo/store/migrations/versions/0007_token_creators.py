"""Add the creator of SCIM tokens."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0007"
down_revision = "0006"


def upgrade() -> None:
    """Add the column; the creators of earlier tokens are in the audit log only."""
    with op.batch_alter_table("source_token") as table:
        table.add_column(sa.Column("created_by", sa.Text()))
