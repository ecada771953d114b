"""Add invitations and passwords of local users, and second factors and passkeys of users and operators."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0030"
down_revision = "0029"


def upgrade() -> None:
    """Create the tables; second factors and recovery codes of operators move to them."""
    op.create_table(
        "second_factor",
        sa.Column("owner_id", sa.String(36), nullable=False),
        sa.Column("secret", sa.Text),
        sa.Column("pending", sa.Text),
        sa.Column("since", sa.String(27)),
        sa.Column("counter", sa.Integer),
        sa.PrimaryKeyConstraint("owner_id", name="pk_second_factor"),
    )
    op.execute(
        "INSERT INTO second_factor (owner_id, secret, pending, since, counter) "
        "SELECT id, factor_secret, factor_pending, factor_at, factor_counter FROM operator "
        "WHERE factor_secret IS NOT NULL OR factor_pending IS NOT NULL"
    )
    op.create_table(
        "recovery_code",
        sa.Column("owner_id", sa.String(36), nullable=False),
        sa.Column("hash", sa.String(64), nullable=False),
        sa.Column("used_at", sa.String(27)),
        sa.PrimaryKeyConstraint("hash", name="pk_recovery_code"),
    )
    op.create_index("ix_recovery_code_owner_id", "recovery_code", ["owner_id"])
    op.execute(
        "INSERT INTO recovery_code (owner_id, hash, used_at) "
        "SELECT operator_id, hash, used_at FROM operator_recovery"
    )
    op.drop_table("operator_recovery")
    for column in ("factor_secret", "factor_pending", "factor_at", "factor_counter"):
        op.drop_column("operator", column)
    op.create_table(
        "passkey",
        sa.Column("id", sa.String(36), nullable=False),
        sa.Column("owner_id", sa.String(36), nullable=False),
        sa.Column("credential_id", sa.Text, nullable=False),
        sa.Column("public_key", sa.Text, nullable=False),
        sa.Column("sign_count", sa.Integer, nullable=False),
        sa.Column("label", sa.Text, nullable=False),
        sa.Column("created_at", sa.String(27), nullable=False),
        sa.Column("last_used_at", sa.String(27)),
        sa.PrimaryKeyConstraint("id", name="pk_passkey"),
        sa.UniqueConstraint("credential_id", name="uq_passkey_credential_id"),
    )
    op.create_index("ix_passkey_owner_id", "passkey", ["owner_id"])
    op.create_table(
        "local_password",
        sa.Column("user_id", sa.String(36), nullable=False),
        sa.Column("hash", sa.Text, nullable=False),
        sa.Column("must_change", sa.Boolean(create_constraint=False), nullable=False),
        sa.Column("until_at", sa.String(27)),
        sa.Column("changed_at", sa.String(27), nullable=False),
        sa.ForeignKeyConstraint(["user_id"], ["user.id"], name="fk_local_password_user_id_user"),
        sa.PrimaryKeyConstraint("user_id", name="pk_local_password"),
    )
    op.create_table(
        "invitation",
        sa.Column("id", sa.String(36), nullable=False),
        sa.Column("user_id", sa.String(36), nullable=False),
        sa.Column("email", sa.Text, nullable=False),
        sa.Column("hash", sa.String(64), nullable=False),
        sa.Column("invited_by", sa.Text, nullable=False),
        sa.Column("invited_at", sa.String(27), nullable=False),
        sa.Column("sent_at", sa.String(27), nullable=False),
        sa.Column("until_at", sa.String(27), nullable=False),
        sa.Column("accepted_at", sa.String(27)),
        sa.Column("accepted_with", sa.Text),
        sa.Column("withdrawn_at", sa.String(27)),
        sa.ForeignKeyConstraint(["user_id"], ["user.id"], name="fk_invitation_user_id_user"),
        sa.PrimaryKeyConstraint("id", name="pk_invitation"),
        sa.UniqueConstraint("user_id", name="uq_invitation_user_id"),
        sa.UniqueConstraint("hash", name="uq_invitation_hash"),
    )
    op.create_index(
        "ix_invitation_open",
        "invitation",
        ["until_at"],
        sqlite_where=sa.text("accepted_at IS NULL AND withdrawn_at IS NULL"),
    )
    op.create_table(
        "sign_in_step",
        sa.Column("hash", sa.String(64), nullable=False),
        sa.Column("purpose", sa.String(20), nullable=False),
        sa.Column("owner_id", sa.String(36), nullable=False),
        sa.Column("data", sa.Text),
        sa.Column("until_at", sa.String(27), nullable=False),
        sa.PrimaryKeyConstraint("hash", name="pk_sign_in_step"),
    )
    op.create_index("ix_sign_in_step_owner_id", "sign_in_step", ["owner_id"])
    op.create_index("ix_sign_in_step_until", "sign_in_step", ["until_at"])
    op.add_column("user", sa.Column("invited_at", sa.String(27)))
    op.create_index(
        "ix_user_invited",
        "user",
        ["display_name_key", "id"],
        sqlite_where=sa.text("invited_at IS NOT NULL"),
    )
