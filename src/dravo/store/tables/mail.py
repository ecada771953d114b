"""The table of outbound email."""

from __future__ import annotations

from sqlalchemy import Column, Index, Integer, Table, Text

from dravo.store.tables.base import at, metadata, own_id

# Messages that are not sent yet. A message is deleted when it is sent or too old.
outbound_mail = Table(
    "outbound_mail",
    metadata,
    own_id(),
    # The complete message, encrypted because it can contain a code.
    Column("content", Text, nullable=False),
    at("created_at", nullable=False),
    # End of its validity, time of the next attempt, number of failed attempts and last error.
    at("until_at", nullable=False),
    at("next_at", nullable=False),
    Column("tries", Integer, nullable=False, server_default="0"),
    Column("trouble", Text),
)
Index("ix_outbound_mail_next", outbound_mail.c.next_at)
