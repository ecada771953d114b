"""Observations of sources' traffic, with their first and last time."""

from __future__ import annotations

from sqlalchemy import Connection

from dravo.core.instants import Instant
from dravo.store import tables as t
from dravo.store.sqlite import insert_unless_there


def note(connection: Connection, source_id: str, what: str, now: Instant, detail: str | None = None) -> None:
    """Note an observation of a source."""
    statement = insert_unless_there(t.source_observation).values(
        source_id=source_id, what=what, first_at=now, last_at=now, detail=detail
    )
    connection.execute(
        statement.on_conflict_do_update(
            index_elements=["source_id", "what"], set_={"last_at": now, "detail": detail}
        )
    )
