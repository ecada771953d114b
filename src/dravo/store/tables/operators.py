"""The tables of operators, and the audit log."""

from __future__ import annotations

from sqlalchemy import Boolean, Column, ForeignKey, Index, Integer, String, Table, Text, UniqueConstraint

from dravo.store.tables.base import Json, at, metadata, own_id, to

operator = Table(
    "operator",
    metadata,
    own_id(),
    Column("name", Text, nullable=False),
    Column("name_key", Text, nullable=False, unique=True),
    Column("kind", String(20), nullable=False),
    # Whether they see what users' attributes are; names and user names are always seen.
    Column("masked", Boolean(create_constraint=False), nullable=False, server_default="0"),
    Column("password_hash", Text, nullable=False),
    # The secret of their second factor, encrypted; one that is not confirmed yet; since when, and the last
    # step of which a code was taken.
    Column("factor_secret", Text),
    Column("factor_pending", Text),
    at("factor_at"),
    Column("factor_counter", Integer),
    # Whether they come in by a source alone: their password counts for nothing then, a recovery code does in
    # its place.
    Column("only_by_source", Boolean(create_constraint=False), nullable=False, server_default="0"),
    at("created_at", nullable=False),
    at("disabled_at"),
)

# Codes for the day on which the app is lost, each good once.
operator_recovery = Table(
    "operator_recovery",
    metadata,
    to("operator", index=True),
    Column("hash", String(64), primary_key=True),
    at("used_at"),
)

# By whom a source's provider knows an operator: bound by the operator, signed in, and never by a name.
operator_link = Table(
    "operator_link",
    metadata,
    own_id(),
    to("operator", index=True),
    to("source"),
    # The provider's own name, and by what it knows them, with a line end between.
    Column("native_id", Text, nullable=False),
    Column("subject", Text, nullable=False),
    at("created_at", nullable=False),
    at("last_used_at", nullable=False),
    UniqueConstraint("source_id", "native_id"),
)

# The applications of an application owner.
operator_application = Table(
    "operator_application",
    metadata,
    Column("operator_id", String(36), ForeignKey("operator.id"), primary_key=True),
    Column("application_id", String(36), ForeignKey("application.id"), primary_key=True),
)

operator_session = Table(
    "operator_session",
    metadata,
    Column("hash", String(64), primary_key=True),
    to("operator", index=True),
    # By which source they came, if not by their password; and by what its provider knows this sign-in, for
    # signing out there.
    Column("source_id", String(36)),
    Column("provider_session", Text),
    Column("subject", Text),
    Column("subject_format", Text),
    at("created_at", nullable=False),
    at("last_seen_at", nullable=False),
    at("expires_at", nullable=False),
)

api_token = Table(
    "api_token",
    metadata,
    own_id(),
    to("operator", index=True),
    # The token with which it was created: it ends with that one.
    Column("parent_id", String(36), index=True),
    # The permissions to which it is limited; null for all of its operator's.
    Column("permissions", Json),
    Column("label", Text, nullable=False),
    Column("prefix", String(16), nullable=False),
    Column("hash", String(64), nullable=False, unique=True),
    Column("scope", String(8), nullable=False),
    at("created_at", nullable=False),
    at("expires_at"),
    at("last_used_at"),
    at("revoked_at"),
)

# Append-only. The chain covers everything but `personal`, of which it covers a keyed digest, so that a user
# can be erased.
audit = Table(
    "audit",
    metadata,
    Column("id", Integer, primary_key=True),
    at("at", nullable=False),
    Column("operator_id", String(36)),
    Column("operator_name", Text, nullable=False),
    Column("action", String(60), nullable=False),
    Column("object_kind", String(30), nullable=False),
    Column("object_id", String(36), nullable=False),
    Column("details", Json, nullable=False),
    Column("personal", Json),
    Column("personal_digest", String(64), nullable=False),
    Column("hmac", String(64), nullable=False),
)
Index("ix_audit_object", audit.c.object_kind, audit.c.object_id, audit.c.id)
