"""The table of outbound email."""

from __future__ import annotations

from sqlalchemy import Column, Index, Integer, Table, Text

from dravo.store.tables.base import at, metadata, own_id

# A row is there until it is sent, or was tried for too long.
outbound_mail = Table(
    "outbound_mail",
    metadata,
    own_id(),
    # The whole message, encrypted: it may hold a code.
    Column("content", Text, nullable=False),
    at("created_at", nullable=False),
    # Until when it is worth sending; when it is tried next; how often it was, and what was wrong.
    at("until_at", nullable=False),
    at("next_at", nullable=False),
    Column("tries", Integer, nullable=False, server_default="0"),
    Column("trouble", Text),
)
Index("ix_outbound_mail_next", outbound_mail.c.next_at)
