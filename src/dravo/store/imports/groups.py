"""Groups of imports, many at a time."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection, bindparam, insert, select, update

from dravo.core.identity.names import fold
from dravo.core.identity.records import IMPORT, searchable
from dravo.core.instants import Instant
from dravo.store import tables as t
from dravo.store.imports.records import Known, known_by_native_id


def known_groups(
    connection: Connection,
    source_id: str,
    native_ids: Sequence[str] | None = None,
    connection_type: str = IMPORT,
) -> dict[str, Known]:
    """Return all groups that a source ever reported, by native ID; or those with some IDs."""
    return known_by_native_id(connection, t.group, source_id, native_ids, connection_type)


_MAKE_GROUP = insert(t.group)

_NAME_GROUP = (
    update(t.group)
    .where(t.group.c.id == bindparam("group"))
    .values(
        display_name=bindparam("name"),
        display_name_key=bindparam("name_key"),
        data=bindparam("content", type_=t.group.c.data.type),
        reference=bindparam("by"),
        version=t.group.c.version + 1,
        modified_at=bindparam("at"),
        deleted_at=None,
    )
)

_DIGEST = update(t.group).where(t.group.c.id == bindparam("group")).values(digest=bindparam("mark"))


def make_groups(
    connection: Connection,
    source_id: str,
    made: Sequence[tuple[str, Any]],
    now: Instant,
    connection_type: str = IMPORT,
) -> None:
    """Write new groups: (id, entry) each, as yet without members."""
    rows_made = [
        {
            "id": own_id,
            "source_id": source_id,
            "connection_type": connection_type,
            "display_name": each.name,
            "display_name_key": fold(each.name),
            "external_id": None,
            "data": {"displayName": each.name},
            "version": 1,
            "created_at": now,
            "modified_at": now,
            "native_id": each.native_id,
            "reference": each.reference,
            "digest": None,
        }
        for own_id, each in made
    ]
    if rows_made:
        connection.execute(_MAKE_GROUP, rows_made)


def name_groups(connection: Connection, named: Sequence[tuple[str, Any]], now: Instant) -> None:
    """Write the names and locators of groups, given as (ID, entry); a deleted group exists again."""
    given = [
        {
            "group": own_id,
            "name": each.name,
            "name_key": fold(each.name),
            "content": {"displayName": each.name},
            "by": each.reference,
            "at": now,
        }
        for own_id, each in named
    ]
    if given:
        connection.execute(_NAME_GROUP, given)


def note_digests(connection: Connection, digests: Sequence[tuple[str, str | None]]) -> None:
    """Store the digests of groups."""
    if digests:
        connection.execute(_DIGEST, [{"group": own_id, "mark": mark} for own_id, mark in digests])


def names_of_groups(
    connection: Connection, source_id: str, connection_type: str = IMPORT
) -> dict[str, tuple[str, str | None]]:
    """Return (name, reference) of a source's present groups by id."""
    g = t.group.c
    where = (g.source_id == source_id, g.connection_type == connection_type, g.deleted_at.is_(None))
    return {
        own_id: (name, reference)
        for own_id, name, reference in connection.execute(
            select(g.id, g.display_name, g.reference).where(*where)
        )
    }


def shown_name(data: Mapping[str, Any]) -> str:
    """Return the name of a user for run entries."""
    return searchable(data).display_name


@dataclass(frozen=True)
class ImportedGroup:
    """A group of an import: its ID here, its name, the source's ID, and how the source refers to it."""

    id: str
    display_name: str
    native_id: str
    reference: str | None


def groups_by_name(connection: Connection, source_id: str, limit: int) -> list[ImportedGroup]:
    """Return the groups that a source's imports reported, by name."""
    g = t.group.c
    statement = (
        select(g.id, g.display_name, g.native_id, g.reference)
        .where(g.source_id == source_id, g.connection_type == IMPORT, g.deleted_at.is_(None))
        .order_by(g.display_name_key)
        .limit(limit)
    )
    return [ImportedGroup(*row) for row in connection.execute(statement)]
