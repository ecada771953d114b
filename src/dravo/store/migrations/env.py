"""Alembic's entry: runs migrations on the connection that it is given."""

from __future__ import annotations

from typing import Any, Literal

from alembic import context

from dravo.store.tables import Json, metadata


def render(kind: str, item: Any, _: Any) -> str | Literal[False]:
    """Write our JSON columns as the text that they are, so that migrations need nothing of today's code."""
    return "sa.Text()" if kind == "type" and isinstance(item, Json) else False


connection = context.config.attributes["connection"]
context.configure(connection=connection, target_metadata=metadata, render_as_batch=True, render_item=render)
with context.begin_transaction():
    context.run_migrations()
