"""Add who decides about the members of groups."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0016"
down_revision = "0015"


def upgrade() -> None:
    """Add the columns; in sources that exist, every connection type decides, as before."""
    with op.batch_alter_table("source") as table:
        table.add_column(sa.Column("members_from", sa.String(16), nullable=False, server_default="all"))
    with op.batch_alter_table("group") as table:
        table.add_column(sa.Column("members_from", sa.String(16)))
    op.create_index(
        "ix_group_members_from",
        "group",
        ["id"],
        sqlite_where=sa.text("members_from IS NOT NULL"),
    )
