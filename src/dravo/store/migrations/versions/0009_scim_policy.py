"""Add the source policy of inbound SCIM, which includes its match rule."""

from __future__ import annotations

import json

import sqlalchemy as sa
from alembic import op

revision = "0009"
down_revision = "0008"


def _allow_records_without_user(connection: sa.Connection) -> None:
    """Copy the table of records to one that allows records without a user, with the same indexes."""
    stored = sa.text("SELECT sql FROM sqlite_master WHERE tbl_name = 'record' AND sql IS NOT NULL AND type = :type")
    (table,) = connection.execute(stored, {"type": "table"}).scalars()
    indexes = list(connection.execute(stored, {"type": "index"}).scalars())
    new = table.replace("CREATE TABLE record", "CREATE TABLE record_copy", 1)
    new = new.replace("user_id VARCHAR(36) NOT NULL", "user_id VARCHAR(36)", 1)
    for statement in (
        new,
        "INSERT INTO record_copy SELECT * FROM record",
        "DROP TABLE record",
        "ALTER TABLE record_copy RENAME TO record",
        *indexes,
    ):
        connection.execute(sa.text(statement))


def upgrade() -> None:
    """Add the columns; every source stays enabled and keeps its match rule."""
    with op.batch_alter_table("source") as table:
        table.add_column(sa.Column("scim_policy", sa.Text()))
        table.add_column(sa.Column("scim_status", sa.String(16), nullable=False, server_default="enabled"))
        table.add_column(sa.Column("scim_enabled_from", sa.String(27)))
    source = sa.table("source", sa.column("scim_match"), sa.column("scim_policy"))
    connection = op.get_bind()
    for rule in ("user_name", "email"):
        values = {"scim_policy": json.dumps({"match": rule})}
        connection.execute(source.update().where(source.c.scim_match == rule).values(**values))
    op.execute("ALTER TABLE source DROP COLUMN scim_match")
    _allow_records_without_user(connection)
    with op.batch_alter_table("record") as table:
        table.add_column(sa.Column("in_use", sa.Text()))
        table.add_column(sa.Column("left_out", sa.String(16)))
        table.add_column(sa.Column("waiting", sa.String(16)))
    with op.batch_alter_table("group") as table:
        table.add_column(sa.Column("left_out", sa.String(16)))
        table.add_column(sa.Column("waiting", sa.String(16)))
        table.add_column(sa.Column("name_in_use", sa.Text()))
    with op.batch_alter_table("membership") as table:
        table.add_column(sa.Column("waiting", sa.String(8)))
    for name, table_name, columns in (
        ("ix_record_waiting", "record", ["source_id", "waiting"]),
        ("ix_record_left_out", "record", ["source_id", "left_out"]),
        ("ix_group_waiting", "group", ["source_id", "id"]),
        ("ix_membership_waiting", "membership", ["group_id"]),
        ("ix_membership_record_waiting", "membership", ["record_id"]),
    ):
        column = "left_out" if name == "ix_record_left_out" else "waiting"
        op.create_index(name, table_name, columns, sqlite_where=sa.text(f"{column} IS NOT NULL"))
    op.create_table(
        "pending_policy",
        sa.Column("record_id", sa.String(36), nullable=False),
        sa.Column("source_id", sa.String(36), nullable=False),
        sa.Column("since", sa.String(27), nullable=False),
        sa.ForeignKeyConstraint(
            ["record_id"], ["record.id"], name=op.f("fk_pending_policy_record_id_record")
        ),
        sa.ForeignKeyConstraint(
            ["source_id"], ["source.id"], name=op.f("fk_pending_policy_source_id_source")
        ),
        sa.PrimaryKeyConstraint("record_id", name=op.f("pk_pending_policy")),
    )
    op.create_index(op.f("ix_pending_policy_source_id"), "pending_policy", ["source_id"])
