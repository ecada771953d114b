"""Add erased users, with keyed digests of their identifiers."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0011"
down_revision = "0010"


def upgrade() -> None:
    """Add the tables."""
    op.create_table(
        "erased_user",
        sa.Column("id", sa.String(36), nullable=False),
        sa.Column("user_id", sa.String(36), nullable=False),
        sa.Column("erased_at", sa.String(27), nullable=False),
        sa.Column("erased_by", sa.Text(), nullable=False),
        sa.Column("accepted_at", sa.String(27)),
        sa.Column("accepted_by", sa.Text()),
        sa.ForeignKeyConstraint(["user_id"], ["user.id"], name=op.f("fk_erased_user_user_id_user")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_erased_user")),
    )
    op.create_table(
        "erased_identifier",
        sa.Column("erased_user_id", sa.String(36), nullable=False),
        sa.Column("source_id", sa.String(36), nullable=False),
        sa.Column("digest", sa.String(64), nullable=False),
        sa.ForeignKeyConstraint(
            ["erased_user_id"],
            ["erased_user.id"],
            name=op.f("fk_erased_identifier_erased_user_id_erased_user"),
        ),
        sa.ForeignKeyConstraint(
            ["source_id"], ["source.id"], name=op.f("fk_erased_identifier_source_id_source")
        ),
        sa.UniqueConstraint(
            "source_id",
            "digest",
            "erased_user_id",
            name=op.f("uq_erased_identifier_source_id_digest_erased_user_id"),
        ),
    )
