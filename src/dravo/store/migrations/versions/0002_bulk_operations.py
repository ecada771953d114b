"""Rename the field of stored exchanges that counts the operations of a bulk request."""

from __future__ import annotations

from alembic import op

revision = "0002"
down_revision = "0001"


def upgrade() -> None:
    """Rename `together` to `bulk_operations`."""
    for table in ("task_attempt", "provisioned_group"):
        # Quotes within texts are escaped, so that only names of fields match.
        op.execute(
            f"UPDATE {table} SET exchanges = replace(exchanges, '\"together\":', '\"bulk_operations\":') "
            "WHERE exchanges LIKE '%\"together\":%'"
        )
