"""Add the hand-overs of users from one source to another."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0010"
down_revision = "0009"


def upgrade() -> None:
    """Add the table."""
    op.create_table(
        "hand_over",
        sa.Column("id", sa.String(36), nullable=False),
        sa.Column("from_source_id", sa.String(36), nullable=False),
        sa.Column("to_source_id", sa.String(36), nullable=False),
        sa.Column("status", sa.String(8), nullable=False),
        sa.Column("assignments", sa.Text(), nullable=False),
        sa.Column("domains", sa.Text(), nullable=False),
        sa.Column("connections", sa.Text(), nullable=False),
        sa.Column("users", sa.Integer(), nullable=False),
        sa.Column("started_at", sa.String(27), nullable=False),
        sa.Column("changed_at", sa.String(27), nullable=False),
        sa.Column("changed_by", sa.Text(), nullable=False),
        sa.ForeignKeyConstraint(
            ["from_source_id"], ["source.id"], name=op.f("fk_hand_over_from_source_id_source")
        ),
        sa.ForeignKeyConstraint(
            ["to_source_id"], ["source.id"], name=op.f("fk_hand_over_to_source_id_source")
        ),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_hand_over")),
    )
    op.create_index(op.f("ix_hand_over_from_source_id"), "hand_over", ["from_source_id"])
