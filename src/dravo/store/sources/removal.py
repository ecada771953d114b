"""Removal of a source: what still uses it, and its rows in all tables."""

from __future__ import annotations

from dataclasses import dataclass

from sqlalchemy import Connection, delete, select, update

from dravo.store import tables as t

_OWN_TABLES = (
    t.source_token,
    t.source_observation,
    t.source_schema,
    t.trace,
    t.source_import,
    t.conflict,
    t.run,
    t.user_session,
    t.sign_in_request,
    t.consumed_assertion,
    t.sign_in_key,
    t.test_sign_in,
    t.sign_in_trace,
    t.source_sign_in,
)


@dataclass(frozen=True)
class PatternUse:
    """A group name pattern that maps groups of a source, with the label of its application."""

    pattern: str
    application: str


def has_reported(connection: Connection, source_id: str) -> bool:
    """Return whether a source ever reported users or groups."""
    return any(
        connection.execute(select(table.c.id).where(table.c.source_id == source_id).limit(1)).first()
        for table in (t.record, t.group)
    )


def pattern_use(connection: Connection, source_id: str) -> PatternUse | None:
    """Return an assignment by pattern that needs a source, or None."""
    a, p = t.assignment.c, t.application.c
    statement = (
        select(a.pattern, p.label)
        .join(t.application, p.id == a.application_id)
        .where(a.source_id == source_id, a.removed_at.is_(None))
    )
    row = connection.execute(statement.limit(1)).first()
    return None if row is None else PatternUse(*row)


def delete_source(connection: Connection, source_id: str) -> None:
    """Delete a source with all rows that belong to it; ended assignments lose their source."""
    a = t.assignment.c
    connection.execute(update(t.assignment).where(a.source_id == source_id).values(source_id=None))
    runs = select(t.run.c.id).where(t.run.c.source_id == source_id)
    connection.execute(delete(t.run_entry).where(t.run_entry.c.run_id.in_(runs)))
    for table in _OWN_TABLES:
        connection.execute(delete(table).where(table.c.source_id == source_id))
    connection.execute(delete(t.source).where(t.source.c.id == source_id))
