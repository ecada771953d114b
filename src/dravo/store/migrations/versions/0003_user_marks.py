"""Add the marks of operators to users."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0003"
down_revision = "0002"


def upgrade() -> None:
    """Add the columns of marks, and the index of their list."""
    with op.batch_alter_table("user") as table:
        table.add_column(sa.Column("mark", sa.String(8)))
        table.add_column(sa.Column("mark_from_at", sa.String(27)))
        table.add_column(sa.Column("mark_note", sa.Text()))
        table.add_column(sa.Column("marked_by", sa.Text()))
        table.add_column(sa.Column("marked_at", sa.String(27)))
    op.create_index(
        "ix_user_mark",
        "user",
        ["display_name_key", "id"],
        sqlite_where=sa.text("mark IS NOT NULL"),
    )
