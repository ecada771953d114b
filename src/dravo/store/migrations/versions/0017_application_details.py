"""Add the values that are sent for roles and license plans, their descriptions, and notes of applications."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0017"
down_revision = "0016"


def upgrade() -> None:
    """Add the columns; of roles and plans that exist, the key is sent, as before."""
    for name in ("role", "license_plan"):
        with op.batch_alter_table(name) as table:
            table.add_column(sa.Column("sent_value", sa.Text))
            table.add_column(sa.Column("description", sa.Text))
    with op.batch_alter_table("application") as table:
        table.add_column(sa.Column("note", sa.Text))
