"""Conflicts of imports and sign-ins that an operator decides."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection, func, insert, or_, select, update

from dravo.core.identity.records import IMPORT
from dravo.core.instants import Instant
from dravo.store import tables as t
from dravo.store.ids import new_id
from dravo.store.imports.records import chunks
from dravo.store.pagination import Page, PageRequest, page, shown_as

OPEN, DECIDED, OVER = "open", "decided", "over"
# The kind of a link that an operator made ahead of the first record.
AHEAD = "ahead"


@dataclass(frozen=True)
class StoredConflict:
    """A row of the table of conflicts, in the order of its columns.

    Attributes:
        subject: "user" or "group".
        entry: what the source reported.
        candidates: the IDs of the users to which the record could belong.
        user_id: the user of a decision to link.
    """

    id: str
    source_id: str
    connection_type: str
    subject: str
    native_id: str
    kind: str
    name: str
    message: str
    entry: dict[str, Any]
    candidates: list[str]
    status: str
    decision: str | None
    user_id: str | None
    decided_by: str | None
    first_seen_at: Instant
    last_seen_at: Instant
    decided_at: Instant | None


def list_conflicts(
    connection: Connection, source_id: str, page_request: PageRequest, status: str
) -> Page[StoredConflict]:
    """Return a page of a source's conflicts with a status, oldest first."""
    c = t.conflict.c
    statement = select(t.conflict).where(c.source_id == source_id, c.status == status, c.kind != AHEAD)
    return page(connection, statement, [c.id], page_request, shown_as(StoredConflict, lambda row: row))


def list_ahead(connection: Connection, source_id: str, page_request: PageRequest) -> Page[StoredConflict]:
    """Return a page of a source's links that wait for their first record, oldest first."""
    c = t.conflict.c
    statement = select(t.conflict).where(c.source_id == source_id, c.status == DECIDED, c.kind == AHEAD)
    return page(connection, statement, [c.id], page_request, shown_as(StoredConflict, lambda row: row))


def insert_conflict(connection: Connection, row: Mapping[str, Any]) -> None:
    """Insert a conflict that is decided already."""
    connection.execute(insert(t.conflict).values(**row))


def get(connection: Connection, source_id: str, conflict_id: str) -> StoredConflict | None:
    """Return a conflict of a source that is not over, or None."""
    c = t.conflict.c
    where = (c.id == conflict_id, c.source_id == source_id, c.status != OVER)
    row = connection.execute(select(t.conflict).where(*where)).first()
    return None if row is None else StoredConflict(*row)


def by_id(connection: Connection, conflict_id: str) -> StoredConflict:
    """Return a conflict, which exists."""
    return StoredConflict(*connection.execute(select(t.conflict).where(t.conflict.c.id == conflict_id)).one())


def update_conflict(connection: Connection, conflict_id: str, **values: Any) -> None:
    """Change columns of a conflict."""
    connection.execute(update(t.conflict).where(t.conflict.c.id == conflict_id).values(**values))


def decisions(
    connection: Connection, source_id: str, subject: str, native_ids: Sequence[str]
) -> dict[str, StoredConflict]:
    """Return decisions that are not applied yet, by native ID."""
    c = t.conflict.c
    found: dict[str, StoredConflict] = {}
    for some in chunks(native_ids):
        where = (c.source_id == source_id, c.subject == subject, c.native_id.in_(some), c.status == DECIDED)
        rows = connection.execute(select(t.conflict).where(*where))
        found.update({row.native_id: StoredConflict(*row) for row in rows})
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


def open_users(connection: Connection, source_id: str, connection_type: str) -> list[Mapping[str, object]]:
    """Return the SCIM Users of all open conflicts about users of a source's connection."""
    c = t.conflict.c
    statement = select(c.entry).where(
        c.source_id == source_id,
        c.connection_type == connection_type,
        c.subject == "user",
        c.status == OPEN,
    )
    return [entry["user"] for entry in connection.execute(statement).scalars()]


def number_of_open_conflicts(connection: Connection, source_id: str) -> int:
    """Return how many conflicts of a source wait for a decision."""
    c = t.conflict.c
    open_ones = select(func.count()).select_from(t.conflict).where(c.source_id == source_id, c.status == OPEN)
    return int(connection.execute(open_ones).scalar_one())
