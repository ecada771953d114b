"""Count in import runs which roles and accounts ended."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0013"
down_revision = "0012"


def upgrade() -> None:
    """Add the counts to runs, and the run to marks of users."""
    with op.batch_alter_table("run") as table:
        table.add_column(sa.Column("roles_ended", sa.Integer(), nullable=False, server_default="0"))
        table.add_column(sa.Column("accounts_ended", sa.Integer(), nullable=False, server_default="0"))
    with op.batch_alter_table("pending_recompute") as table:
        table.add_column(sa.Column("run_id", sa.String(36)))
