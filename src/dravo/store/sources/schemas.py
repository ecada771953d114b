"""Extension schemas of sources."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection, delete, insert, select

from dravo.core.instants import Instant
from dravo.store import tables as t
from dravo.store.queries import search as text_search


@dataclass(frozen=True)
class StoredSchema:
    """An extension schema of a source for "User" or "Group", with its document (RFC 7643, section 7)."""

    id: str
    source_id: str
    urn: str
    kind: str
    document: dict[str, Any]
    created_at: Instant


@dataclass(frozen=True)
class RuleUse:
    """A rule that uses a schema, with the label of its application."""

    rule: str
    application: str


def of_source(connection: Connection, source_id: str) -> list[StoredSchema]:
    """Return the schemas of a source, the oldest first."""
    c = t.source_schema.c
    statement = select(t.source_schema).where(c.source_id == source_id).order_by(c.id)
    return [StoredSchema(*row) for row in connection.execute(statement)]


def insert_schema(connection: Connection, schema: StoredSchema) -> None:
    """Insert a schema.

    Raises:
        IntegrityError: if the source has one of this URN.
    """
    connection.execute(insert(t.source_schema).values(**schema.__dict__))


def delete_schema(connection: Connection, source_id: str, urn: str) -> bool:
    """Delete a schema of a source; return whether there was one."""
    c = t.source_schema.c
    deleted = connection.execute(delete(t.source_schema).where(c.source_id == source_id, c.urn == urn))
    return bool(deleted.rowcount)


def rule_without_schema(connection: Connection, urn: str) -> RuleUse | None:
    """Return a rule that uses a schema which no source has; None if there is none."""
    a, p = t.assignment.c, t.application.c
    if connection.execute(select(t.source_schema.c.id).where(t.source_schema.c.urn == urn).limit(1)).first():
        return None
    using = (
        select(a.rule, p.label)
        .join(t.application, p.id == a.application_id)
        .where(a.removed_at.is_(None), text_search.has(a.rule, f"{urn}:"))
    )
    row = connection.execute(using.limit(1)).first()
    return None if row is None else RuleUse(*row)
