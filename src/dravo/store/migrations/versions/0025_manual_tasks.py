"""Add tasks that operators carry out, and compute the accounts of tracked-only applications."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0025"
down_revision = "0024"


def upgrade() -> None:
    """Add the columns; the worker computes the accounts of users with access to tracked-only applications."""
    with op.batch_alter_table("task") as table:
        table.add_column(sa.Column("manual_action", sa.String(16)))
        table.add_column(sa.Column("applied_before", sa.Text))
    op.execute(
        "INSERT OR IGNORE INTO pending_recompute (user_id, since) "
        "SELECT DISTINCT x.user_id, strftime('%Y-%m-%dT%H:%M:%f000Z', 'now') FROM access AS x "
        "JOIN application AS p ON p.id = x.application_id "
        "WHERE p.tracked_only = 1 AND x.until_at IS NULL"
    )
