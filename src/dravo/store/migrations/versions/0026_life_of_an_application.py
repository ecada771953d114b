"""Add what applications, assignments, tasks and drift need for the whole life of an application."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0026"
down_revision = "0025"


def upgrade() -> None:
    """Add the columns; nothing changes until they are used."""
    with op.batch_alter_table("application") as table:
        table.add_column(sa.Column("unlinked_accounts", sa.String(16), nullable=False, server_default="wait"))
        table.add_column(sa.Column("approve_tasks", sa.Boolean, nullable=False, server_default="0"))
        table.add_column(sa.Column("original_id", sa.String(36)))
        table.add_column(sa.Column("tested_at", sa.String(27)))
    with op.batch_alter_table("assignment") as table:
        table.add_column(sa.Column("expression", sa.Text))
    with op.batch_alter_table("drift") as table:
        table.add_column(sa.Column("message", sa.Text))
        table.add_column(sa.Column("hint", sa.Text))
    with op.batch_alter_table("task") as table:
        table.add_column(sa.Column("approved_version", sa.Integer))
        table.add_column(sa.Column("approved_by", sa.Text))
