"""The tables of organization settings, and of sources with their requests."""

from __future__ import annotations

from sqlalchemy import Boolean, Column, ForeignKey, Index, Integer, String, Table, Text, UniqueConstraint

from dravo.store.tables.base import Json, at, metadata, one_of, own_id, some_of, to

# Revision numbers, raised with each change. A write checks that the revision that it was planned with is
# current.
revision = Table(
    "revision",
    metadata,
    Column("name", String(40), primary_key=True),
    Column("value", Integer, nullable=False),
)

source = Table(
    "source",
    metadata,
    own_id(),
    Column("key", String(64), nullable=False, unique=True),
    Column("label", Text, nullable=False),
    Column("connection_type", String(16), nullable=False),
    Column("priority", Integer, nullable=False, default=100),
    # Whether an inactive record of this source deactivates the user, and whether it changes users of other
    # sources.
    Column("deactivation_wins", Boolean(create_constraint=False), nullable=False, server_default="0"),
    Column("updates", Boolean(create_constraint=False), nullable=False, server_default="1"),
    # The source policy, see core/identity/source_policy.py; null before it is saved.
    Column("policy", Json),
    # Email domains that the source owns, beside those of its policies. Matching by email works only within
    # them.
    Column("domains", Json),
    at("created_at", nullable=False),
    # A note of operators.
    Column("note", Text),
    # The policy of inbound SCIM, and its status: "disabled", "pilot" or "enabled", with the time at which it
    # becomes "enabled".
    Column("scim_policy", Json),
    Column("scim_status", String(16), nullable=False, server_default="enabled"),
    at("scim_enabled_from"),
    # A retired source reports nothing; what ended then has the same time, and returns if it is restored.
    at("retired_at"),
    # The template from which it was added, or null.
    Column("template", String(40)),
    # Who decides about the members of its groups, where a group does not say otherwise.
    Column("members_from", String(16), nullable=False, server_default="all"),
)

# Import settings of a source: the connector with its settings, and the position of the last import.
source_import = Table(
    "source_import",
    metadata,
    Column("source_id", String(36), ForeignKey("source.id"), primary_key=True),
    Column("kind", String(16), nullable=False),
    Column("settings", Json, nullable=False),
    Column("secret", Text),
    # Whether runs apply changes; otherwise they are previews.
    Column("enabled", Boolean(create_constraint=False), nullable=False),
    at("enabled_from"),
    Column("schedule", String(100), nullable=False),
    at("next_at"),
    # Position from which an import of changes continues, time of the last full import, and the last
    # connection check.
    Column("change_marker", Text),
    at("full_at"),
    Column("checked", Json),
    at("checked_at"),
)

# Conflicts that an operator decides: the user of a record, or a changed user name. Decisions are kept.
conflict = Table(
    "conflict",
    metadata,
    own_id(),
    to("source"),
    Column("connection_type", String(16), nullable=False, server_default="import"),
    # "user" or "group", with its ID in the source.
    Column("subject", String(8), nullable=False),
    Column("native_id", Text, nullable=False),
    Column("kind", String(20), nullable=False),
    Column("name", Text, nullable=False),
    Column("message", Text, nullable=False),
    # The record as the source reported it, and the possible users.
    Column("entry", Json, nullable=False),
    Column("candidates", Json, nullable=False),
    Column("status", String(16), nullable=False),
    Column("decision", String(16)),
    Column("user_id", String(36)),
    Column("decided_by", Text),
    at("first_seen_at", nullable=False),
    at("last_seen_at", nullable=False),
    at("decided_at"),
)
one_of(
    "uq_conflict", conflict.c.source_id, conflict.c.subject, conflict.c.native_id, where="status != 'over'"
)
some_of("ix_conflict_open", conflict.c.source_id, conflict.c.id, where="status = 'open'")

source_token = Table(
    "source_token",
    metadata,
    own_id(),
    to("source", index=True),
    Column("label", Text, nullable=False),
    Column("prefix", String(16), nullable=False),
    Column("hash", String(64), nullable=False, unique=True),
    at("created_at", nullable=False),
    at("expires_at"),
    at("last_used_at"),
    at("revoked_at"),
    # Scope: users, groups or both; read or write.
    Column("kinds", String(8), nullable=False, server_default="both"),
    Column("access", String(8), nullable=False, server_default="write"),
    Column("created_by", Text),
)

# Extension schemas (RFC 7643, section 7); `kind` is "User" or "Group".
source_schema = Table(
    "source_schema",
    metadata,
    own_id(),
    to("source"),
    Column("urn", Text, nullable=False),
    Column("kind", String(8), nullable=False),
    Column("document", Json, nullable=False),
    at("created_at", nullable=False),
    UniqueConstraint("source_id", "urn"),
)

# Traces of inbound SCIM requests, kept as long as the retention setting says.
trace = Table(
    "trace",
    metadata,
    own_id(),
    to("source"),
    at("at", nullable=False),
    Column("method", String(8), nullable=False),
    Column("path", Text, nullable=False),
    Column("query", Text),
    Column("status", Integer, nullable=False),
    Column("milliseconds", Integer, nullable=False),
    # Result or reason of the refusal in a sentence.
    Column("outcome", Text, nullable=False),
    Column("quirks", Json),
    Column("effects", Json),
    Column("body", Text),
)
Index("ix_trace_of_source", trace.c.source_id, trace.c.id)

# Organization settings that differ from their defaults.
setting = Table(
    "setting", metadata, Column("name", String(40), primary_key=True), Column("value", Json, nullable=False)
)

# Reports over all data, stored until `marker` changes.
cached_report = Table(
    "cached_report",
    metadata,
    Column("name", String(40), primary_key=True),
    at("at", nullable=False),
    Column("marker", Text, nullable=False),
    Column("value", Json, nullable=False),
    Column("milliseconds", Integer, nullable=False),
)

# Observations of real traffic for the setup checklists.
source_observation = Table(
    "source_observation",
    metadata,
    to("source"),
    Column("what", String(40), nullable=False),
    at("first_at", nullable=False),
    at("last_at", nullable=False),
    Column("detail", Text),
    UniqueConstraint("source_id", "what"),
)

# Hand-overs of users from one source to another: "pilot", "done" or "undone", with the assignments that were
# copied, the email domains that the new source got, and the connections of the old source that were enabled.
hand_over = Table(
    "hand_over",
    metadata,
    own_id(),
    to("source", "from_source_id", index=True),
    to("source", "to_source_id"),
    Column("status", String(8), nullable=False),
    Column("assignments", Json, nullable=False),
    Column("domains", Json, nullable=False),
    Column("connections", Json, nullable=False),
    Column("users", Integer, nullable=False),
    at("started_at", nullable=False),
    at("changed_at", nullable=False),
    Column("changed_by", Text, nullable=False),
)
