"""Add the pilot group of applications, and the time from which they are enabled."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0019"
down_revision = "0018"


def upgrade() -> None:
    """Add the columns; enabled applications are enabled for everyone, as before."""
    with op.batch_alter_table("application") as table:
        table.add_column(sa.Column("pilot_group_id", sa.String(36)))
        table.add_column(sa.Column("enabled_from", sa.String(27)))
    op.create_index(
        "ix_application_enabled_from",
        "application",
        ["enabled_from"],
        sqlite_where=sa.text("enabled_from IS NOT NULL"),
    )
