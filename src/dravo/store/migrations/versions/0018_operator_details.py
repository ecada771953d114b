"""Add email addresses and hidden areas of operators, and make the owner of an application an operator."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0018"
down_revision = "0017"


def upgrade() -> None:
    """Add the columns. An owner who is no operator is kept in the note of the application."""
    with op.batch_alter_table("operator") as table:
        table.add_column(sa.Column("email", sa.Text))
        table.add_column(sa.Column("hidden_areas", sa.Text))
    op.execute("ALTER TABLE application ADD COLUMN owner_id VARCHAR(36) REFERENCES operator (id)")
    op.execute(
        "UPDATE application SET owner_id = ("
        "SELECT id FROM operator WHERE name_key = lower(trim(application.owner)) "
        "AND kind IN ('super_administrator', 'administrator', 'application_owner'))"
    )
    op.execute(
        "UPDATE application SET note = trim(coalesce(note, '') || char(10) || 'Owner: ' || trim(owner), char(10)) "
        "WHERE owner_id IS NULL AND trim(coalesce(owner, '')) <> ''"
    )
    op.execute("ALTER TABLE application DROP COLUMN owner")
    op.create_index("ix_application_owner_id", "application", ["owner_id"])
    # Requests and the sign-in history have permissions of their own; tokens keep what they could read.
    op.execute(
        "UPDATE api_token SET permissions = json_insert(permissions, '$[#]', 'requests.read', '$[#]', 'sign_ins.read') "
        "WHERE json_type(permissions) = 'array' "
        "AND EXISTS (SELECT 1 FROM json_each(api_token.permissions) WHERE value = 'sources.read')"
    )
