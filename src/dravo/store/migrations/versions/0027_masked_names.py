"""Add whether names of users and network addresses are masked for an operator."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0027"
down_revision = "0026"


def upgrade() -> None:
    """Add the columns; nobody's view changes."""
    with op.batch_alter_table("operator") as table:
        for name in ("masked_names", "masked_networks"):
            table.add_column(sa.Column(name, sa.Boolean, nullable=False, server_default="0"))
