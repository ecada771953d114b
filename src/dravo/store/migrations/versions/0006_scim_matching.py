"""Add the match rule of inbound SCIM to sources."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0006"
down_revision = "0005"


def upgrade() -> None:
    """Add the column; every new record that could belong to a user is a conflict, as before."""
    with op.batch_alter_table("source") as table:
        table.add_column(sa.Column("scim_match", sa.String(16), nullable=False, server_default="ask"))
