"""Add icons of applications."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0023"
down_revision = "0022"


def upgrade() -> None:
    """Add the table."""
    op.create_table(
        "application_icon",
        sa.Column("application_id", sa.String(36), sa.ForeignKey("application.id"), primary_key=True),
        sa.Column("version", sa.String(16), nullable=False),
        sa.Column("image", sa.LargeBinary, nullable=False),
    )
