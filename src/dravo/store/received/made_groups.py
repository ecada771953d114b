"""Groups that the policy of inbound SCIM makes of attributes of users; the source does not see them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from sqlalchemy import Connection, insert, select

from dravo.core.identity.acceptance import MADE_GROUP
from dravo.core.identity.names import fold
from dravo.core.instants import Instant
from dravo.store import tables as t
from dravo.store.groups import CHUNK


def by_name(connection: Connection, source_id: str) -> dict[str, str]:
    """Return the IDs of these groups of a source by folded name."""
    g = t.group.c
    where = (g.source_id == source_id, g.connection_type == MADE_GROUP, g.deleted_at.is_(None))
    return {row[0]: row[1] for row in connection.execute(select(g.native_id, g.id).where(*where))}


def of_records(connection: Connection, record_ids: Sequence[str]) -> dict[str, set[str]]:
    """Return by record the IDs of the groups that were made for it."""
    m, g = t.membership.c, t.group.c
    found: dict[str, set[str]] = {}
    for start in range(0, len(record_ids), CHUNK):
        statement = (
            select(m.record_id, m.group_id)
            .join(t.group, g.id == m.group_id)
            .where(m.record_id.in_(record_ids[start : start + CHUNK]), m.record_id.is_not(None))
            .where(m.until_at.is_(None), g.connection_type == MADE_GROUP)
        )
        for record_id, group_id in connection.execute(statement):
            found.setdefault(record_id, set()).add(group_id)
    return found


def make(connection: Connection, source_id: str, new: Mapping[str, str], now: Instant) -> None:
    """Write new groups.

    Args:
        new: names by ID.

    Raises:
        IntegrityError: if another request made one of them meanwhile.
    """
    rows = [
        {
            "id": group_id,
            "source_id": source_id,
            "connection_type": MADE_GROUP,
            "display_name": name,
            "display_name_key": fold(name),
            "native_id": fold(name),
            "data": {"displayName": name},
            "version": 1,
            "created_at": now,
            "modified_at": now,
        }
        for group_id, name in new.items()
    ]
    if rows:
        connection.execute(insert(t.group), rows)
