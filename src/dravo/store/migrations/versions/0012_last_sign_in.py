"""Add the time of the last sign-in to records."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0012"
down_revision = "0011"


def upgrade() -> None:
    """Add the column; for known users, the last change is the nearest time that was stored."""
    with op.batch_alter_table("record") as table:
        table.add_column(sa.Column("signed_in_at", sa.String(27)))
    op.execute(
        "UPDATE record SET signed_in_at = coalesce(claims_seen_at, modified_at) "
        "WHERE connection_type = 'sign_in'"
    )
    op.create_index(
        "ix_record_signed_in",
        "record",
        ["source_id", "signed_in_at"],
        sqlite_where=sa.text("signed_in_at IS NOT NULL"),
    )
