"""Widen the index of direct access, so that the query planner prefers it."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0005"
down_revision = "0004"


def upgrade() -> None:
    """Create the index again with all columns that its queries read."""
    op.drop_index("ix_access_direct", "access")
    op.create_index(
        "ix_access_direct",
        "access",
        ["user_id", "direct_only", "until_at"],
        sqlite_where=sa.text("until_at IS NULL AND direct_only = 1"),
    )
