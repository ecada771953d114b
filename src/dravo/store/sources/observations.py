"""Observations of sources' traffic, with their first and last time."""

from __future__ import annotations

from dataclasses import dataclass

from sqlalchemy import Connection, select

from dravo.core.instants import Instant
from dravo.store import tables as t
from dravo.store.sqlite import insert_unless_there


@dataclass(frozen=True)
class Observation:
    """An observation of a source, with a detail of the last one."""

    source_id: str
    what: str
    first_at: Instant
    last_at: Instant
    detail: str | None


def of_source(connection: Connection, source_id: str) -> dict[str, Observation]:
    """Return the observations of a source by their kind."""
    o = t.source_observation
    rows = connection.execute(select(o).where(o.c.source_id == source_id))
    return {row.what: Observation(*row) for row in rows}


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
