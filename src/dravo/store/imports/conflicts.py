"""Conflicts of imports and sign-ins that an operator decides."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from sqlalchemy import Connection, func, insert, or_, select, update

from dravo.core.instants import Instant
from dravo.store import tables as t
from dravo.store.ids import new_id
from dravo.store.imports.records import IMPORT, chunks

OPEN, DECIDED, OVER = "open", "decided", "over"


def decisions(
    connection: Connection, source_id: str, subject: str, native_ids: Sequence[str]
) -> dict[str, Any]:
    """Return decisions that are not applied yet, by native ID."""
    c = t.conflict.c
    found: dict[str, Any] = {}
    for some in chunks(native_ids):
        where = (c.source_id == source_id, c.subject == subject, c.native_id.in_(some), c.status == DECIDED)
        found.update({row.native_id: row for row in connection.execute(select(t.conflict).where(*where))})
    return found


def note_conflicts(
    connection: Connection,
    source_id: str,
    subject: str,
    found: Sequence[Mapping[str, Any]],
    now: Instant,
    connection_type: str = IMPORT,
) -> None:
    """Write conflicts: each {"native_id", "kind", "name", "message", "entry", "candidates"}; an open one gets
    a new date only.
    """
    c = t.conflict.c
    for each in found:
        where = (
            c.source_id == source_id,
            c.subject == subject,
            c.native_id == each["native_id"],
            c.status != OVER,
        )
        values = {**each, "last_seen_at": now}
        if connection.execute(update(t.conflict).where(*where).values(**values)).rowcount == 0:
            row = {
                "id": new_id(),
                "source_id": source_id,
                "connection_type": connection_type,
                "subject": subject,
                "status": OPEN,
                "first_seen_at": now,
            }
            connection.execute(insert(t.conflict).values(**row, **values))


def end_conflicts(
    connection: Connection,
    source_id: str,
    subject: str,
    native_ids: Sequence[str],
    *,
    decided_only: bool = False,
) -> None:
    """Close open conflicts whose record was ingested, and decided ones unless the decision was to ignore."""
    c = t.conflict.c
    over = c.decision != "ignore" if decided_only else or_(c.status == OPEN, c.decision != "ignore")
    for some in chunks(native_ids):
        where = (c.source_id == source_id, c.subject == subject, c.native_id.in_(some), over)
        connection.execute(update(t.conflict).where(*where).values(status=OVER))


def with_conflicts(connection: Connection, source_id: str, subject: str) -> set[str]:
    """Return the native ids about which a conflict is open or was decided."""
    c = t.conflict.c
    where = (c.source_id == source_id, c.subject == subject, c.status != OVER)
    return set(connection.execute(select(c.native_id).where(*where)).scalars())


def number_of_open_conflicts(connection: Connection, source_id: str) -> int:
    """Return how many conflicts of a source wait for a decision."""
    c = t.conflict.c
    open_ones = select(func.count()).select_from(t.conflict).where(c.source_id == source_id, c.status == OPEN)
    return int(connection.execute(open_ones).scalar_one())
