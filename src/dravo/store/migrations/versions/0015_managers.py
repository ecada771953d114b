"""Add the manager that an account was sent with, and marks on managers whose reports follow."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0015"
down_revision = "0014"


def upgrade() -> None:
    """Add columns, indexes and the table; users with a manager are recomputed, so that accounts name it."""
    with op.batch_alter_table("account") as table:
        table.add_column(sa.Column("manager_key", sa.Text))
        table.add_column(sa.Column("manager_account_id", sa.String(36)))
    op.create_index(
        "ix_account_manager_key",
        "account",
        ["manager_key"],
        sqlite_where=sa.text("manager_key IS NOT NULL"),
    )
    op.create_index(
        "ix_account_manager",
        "account",
        ["manager_account_id"],
        sqlite_where=sa.text("manager_account_id IS NOT NULL"),
    )
    op.create_table(
        "pending_manager",
        sa.Column("user_id", sa.String(36), sa.ForeignKey("user.id"), primary_key=True),
        sa.Column("since", sa.String(27), nullable=False),
    )
    op.execute(
        "INSERT OR IGNORE INTO pending_recompute (user_id, since) "
        "SELECT id, modified_at FROM user WHERE attributes LIKE '%\"manager\"%' "
        "AND EXISTS (SELECT 1 FROM account WHERE account.user_id = user.id)"
    )
