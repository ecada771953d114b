"""Stored webhooks."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from sqlalchemy import Connection, delete, insert, select, update

from dravo.core.instants import Instant
from dravo.store import tables as t
from dravo.store.pagination import Page, PageRequest, page, shown_as


@dataclass(frozen=True)
class StoredWebhook:
    """A row of the table of webhooks, in the order of its columns; the secret is encrypted."""

    id: str
    label: str
    url: str
    secret: str = field(repr=False)
    created_at: Instant
    disabled_at: Instant | None
    sent_at: Instant | None
    failing_since: Instant | None
    trouble: str | None


def get(connection: Connection, webhook_id: str) -> StoredWebhook | None:
    """Return a webhook, or None."""
    row = connection.execute(select(t.webhook).where(t.webhook.c.id == webhook_id)).first()
    return StoredWebhook(*row) if row is not None else None


def list_webhooks(connection: Connection, page_request: PageRequest) -> Page[StoredWebhook]:
    """Return a page of webhooks by label."""
    keys = [t.webhook.c.label, t.webhook.c.id]
    return page(connection, select(t.webhook), keys, page_request, shown_as(StoredWebhook, lambda row: row))


def labels(connection: Connection) -> dict[str, str]:
    """Return the label of every webhook by its ID."""
    statement = select(t.webhook.c.id, t.webhook.c.label)
    return {row.id: row.label for row in connection.execute(statement)}


def insert_webhook(connection: Connection, values: dict[str, Any]) -> None:
    """Insert a webhook."""
    connection.execute(insert(t.webhook).values(**values))


def update_webhook(connection: Connection, webhook_id: str, **values: Any) -> None:
    """Change columns of a webhook."""
    connection.execute(update(t.webhook).where(t.webhook.c.id == webhook_id).values(**values))


def delete_webhook(connection: Connection, webhook_id: str) -> None:
    """Delete a webhook."""
    connection.execute(delete(t.webhook).where(t.webhook.c.id == webhook_id))
