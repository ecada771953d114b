"""Add the attributes by which existing accounts are adopted, and the attribute that tells the origin."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0020"
down_revision = "0019"


def upgrade() -> None:
    """Add the columns; applications that adopted accounts by user name do so as before."""
    with op.batch_alter_table("application") as table:
        table.add_column(sa.Column("adopt_by", sa.Text))
        table.add_column(sa.Column("origin_attribute", sa.Text))
    op.execute("UPDATE application SET adopt_by = '[\"userName\"]' WHERE adopt_by_user_name = 1")
    op.execute("ALTER TABLE application DROP COLUMN adopt_by_user_name")
