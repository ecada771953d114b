"""Add the template of a source."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0014"
down_revision = "0013"


def upgrade() -> None:
    """Add the column; sources that exist were added without a template."""
    with op.batch_alter_table("source") as table:
        table.add_column(sa.Column("template", sa.String(40)))
