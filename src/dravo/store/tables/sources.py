"""The tables of what is set for the house, and sources with what they asked for."""

from __future__ import annotations

from sqlalchemy import Column, Index, Integer, String, Table, Text, UniqueConstraint

from dravo.store.tables.base import Json, at, metadata, own_id, to

# Numbers that are raised with each change, so that what was read can be checked again before it is written upon.
revision = Table("revision", metadata, Column("name", String(40), primary_key=True), Column("value", Integer, nullable=False))

source = Table(
    "source",
    metadata,
    own_id(),
    Column("key", String(64), nullable=False, unique=True),
    Column("label", Text, nullable=False),
    Column("channel", String(16), nullable=False),
    Column("precedence", Integer, nullable=False, default=100),
    at("created_at", nullable=False),
)

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
    # What it opens: people, groups or both; reading only, or writing too.
    Column("kinds", String(8), nullable=False, server_default="both"),
    Column("access", String(8), nullable=False, server_default="write"),
)

# Extension schemas that operators added, as the documents of RFC 7643, section 7; `kind` is "User" or "Group".
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
    Column("manners", Json),
    Column("effects", Json),
    Column("body", Text),
)
Index("ix_trace_of_source", trace.c.source_id, trace.c.id)

# What operators set for the whole house.
setting = Table("setting", metadata, Column("name", String(40), primary_key=True), Column("value", Json, nullable=False))

# What is counted over everything, and kept until something moved; `marker` tells whether it did.
picture = Table(
    "picture",
    metadata,
    Column("name", String(40), primary_key=True),
    at("at", nullable=False),
    Column("marker", Text, nullable=False),
    Column("value", Json, nullable=False),
    Column("milliseconds", Integer, nullable=False),
)

# What real traffic has shown to work, or not, on a source's exchange sheet.
source_sight = Table(
    "source_sight",
    metadata,
    to("source"),
    Column("what", String(40), nullable=False),
    at("first_at", nullable=False),
    at("last_at", nullable=False),
    Column("detail", Text),
    UniqueConstraint("source_id", "what"),
)
