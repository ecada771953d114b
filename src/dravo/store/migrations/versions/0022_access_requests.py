"""Add access requests, and whether users can request access to an application."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0022"
down_revision = "0021"


def upgrade() -> None:
    """Add the table and the column; no application can be requested until an operator allows it."""
    with op.batch_alter_table("application") as table:
        table.add_column(sa.Column("requestable", sa.Boolean, nullable=False, server_default="0"))
    op.create_table(
        "access_request",
        sa.Column("id", sa.String(36), primary_key=True),
        sa.Column("user_id", sa.String(36), sa.ForeignKey("user.id"), nullable=False),
        sa.Column("application_id", sa.String(36), sa.ForeignKey("application.id"), nullable=False),
        sa.Column("role_id", sa.String(36), sa.ForeignKey("role.id")),
        sa.Column("reason", sa.Text, nullable=False),
        sa.Column("status", sa.String(12), nullable=False),
        sa.Column("requested_at", sa.String(27), nullable=False),
        sa.Column("decided_at", sa.String(27)),
        sa.Column("decided_by", sa.Text),
        sa.Column("answer", sa.Text),
        sa.Column("assignment_id", sa.String(36)),
    )
    op.create_index("ix_access_request_of_application", "access_request", ["application_id", "id"])
    op.create_index(
        "uq_access_request_open",
        "access_request",
        ["user_id", "application_id"],
        unique=True,
        sqlite_where=sa.text("status = 'open'"),
    )
