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
    # Whether user attributes are masked; names and network addresses have their own columns.
    Column("masked", Boolean(create_constraint=False), nullable=False, server_default="0"),
    Column("password_hash", Text, nullable=False),
    # Whether password sign-in is disabled. A recovery code then works in place of the password.
    Column("only_by_source", Boolean(create_constraint=False), nullable=False, server_default="0"),
    at("created_at", nullable=False),
    at("disabled_at"),
    # The address for notices, and the areas that the operator's view leaves out; null for none.
    Column("email", Text),
    Column("hidden_areas", Json),
    Column("masked_names", Boolean(create_constraint=False), nullable=False, server_default="0"),
    Column("masked_networks", Boolean(create_constraint=False), nullable=False, server_default="0"),
)

# Links of operators to identities at a source. A signed-in operator creates them; a name never does.
operator_link = Table(
    "operator_link",
    metadata,
    own_id(),
    to("operator", index=True),
    to("source"),
    # The provider's name and its ID of the operator, separated by a line end.
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
    # The source of the sign-in (null for a password), and the session at its provider, for single logout.
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
    # The token with which it was created; it expires with that token.
    Column("parent_id", String(36), index=True),
    # The permissions of the token; null for all permissions of its operator.
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

# Append-only. The HMAC chain covers all columns; of `personal` only a keyed digest, so that personal data can
# be erased.
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
