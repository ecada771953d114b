"""Add the value that is sent for a role, what the role permits, and notes of applications."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0017"
down_revision = "0016"


def upgrade() -> None:
    """Add the columns; of roles that exist, the key is sent, as before."""
    with op.batch_alter_table("role") as table:
        table.add_column(sa.Column("sent_value", sa.Text))
        table.add_column(sa.Column("description", sa.Text))
    with op.batch_alter_table("application") as table:
        table.add_column(sa.Column("note", sa.Text))
