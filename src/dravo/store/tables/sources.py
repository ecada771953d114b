"""The tables of organization settings, and of sources with their requests."""

from __future__ import annotations

from sqlalchemy import Boolean, Column, ForeignKey, Index, Integer, String, Table, Text, UniqueConstraint

from dravo.store.tables.base import Json, at, metadata, one_of, own_id, some_of, to

# Numbers that are raised with each change, so that what was read can be checked again before it is written
# upon.
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
    # Whether its inactive counts whatever others say, and whether it says anything of users whom another
    # source knows.
    Column("deactivation_wins", Boolean(create_constraint=False), nullable=False, server_default="0"),
    Column("updates", Boolean(create_constraint=False), nullable=False, server_default="1"),
    # The answers to the source policy, as `core.source_policy` reads them; None where they were not asked
    # yet.
    Column("policy", Json),
    # The email domains that it owns, beside those of its policies: its word for an address there counts for
    # matching.
    Column("domains", Json),
    at("created_at", nullable=False),
)

# How a source is read on a schedule: the kind of reader with its settings, and how far the last reading came.
source_import = Table(
    "source_import",
    metadata,
    Column("source_id", String(36), ForeignKey("source.id"), primary_key=True),
    Column("kind", String(16), nullable=False),
    Column("settings", Json, nullable=False),
    Column("secret", Text),
    # Whether what is read is taken in; until then runs only show what they would do.
    Column("enabled", Boolean(create_constraint=False), nullable=False),
    at("enabled_from"),
    Column("schedule", String(100), nullable=False),
    at("next_at"),
    # From where the next reading can go on, when everyone was read last, and with which answers.
    Column("change_marker", Text),
    at("full_at"),
    Column("checked", Json),
    at("checked_at"),
)

# What cannot be decided by a rule: whose a record is, or whether a name may change hands. A decision is
# kept, and holds for good.
conflict = Table(
    "conflict",
    metadata,
    own_id(),
    to("source"),
    Column("connection_type", String(16), nullable=False, server_default="import"),
    # "user" or "group", with the source's own id.
    Column("subject", String(8), nullable=False),
    Column("native_id", Text, nullable=False),
    Column("kind", String(20), nullable=False),
    Column("name", Text, nullable=False),
    Column("message", Text, nullable=False),
    # What the source said, and the users whom it could mean.
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
    # What it opens: users, groups or both; reading only, or writing too.
    Column("kinds", String(8), nullable=False, server_default="both"),
    Column("access", String(8), nullable=False, server_default="write"),
)

# Extension schemas that operators added, as the documents of RFC 7643, section 7; `kind` is "User" or
# "Group".
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

# What each request of a source did. Kept for a while; see the settings for how long.
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
    # In a sentence what was done, or why not.
    Column("outcome", Text, nullable=False),
    Column("quirks", Json),
    Column("effects", Json),
    Column("body", Text),
)
Index("ix_trace_of_source", trace.c.source_id, trace.c.id)

# What operators set for the organization.
setting = Table(
    "setting", metadata, Column("name", String(40), primary_key=True), Column("value", Json, nullable=False)
)

# What is counted over everything, and kept until something moved; `marker` tells whether it did.
cached_report = Table(
    "cached_report",
    metadata,
    Column("name", String(40), primary_key=True),
    at("at", nullable=False),
    Column("marker", Text, nullable=False),
    Column("value", Json, nullable=False),
    Column("milliseconds", Integer, nullable=False),
)

# What real traffic has shown to work, or not, on a source's setup checklist.
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
