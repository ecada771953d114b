"""Groups of inbound SCIM, with what waits of them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection, or_, select, update

from dravo.core.identity.acceptance import DISABLED, ReceivedGroup
from dravo.core.identity.records import INBOUND_SCIM
from dravo.core.instants import Instant
from dravo.store import tables as t


@dataclass(frozen=True)
class ReceivedGroupRow:
    """A group of inbound SCIM, in the order of the select."""

    id: str
    source_id: str
    display_name: str
    data: dict[str, Any]
    version: int
    created_at: Instant
    modified_at: Instant
    deleted_at: Instant | None
    left_out: str | None
    waiting: str | None
    name_in_use: str | None

    @property
    def group(self) -> ReceivedGroup:
        """The group, for the policy."""
        return ReceivedGroup(self.id, str(self.data["displayName"]), self.data.get("externalId"))


_GROUP: tuple[Any, ...] = (
    t.group.c.id,
    t.group.c.source_id,
    t.group.c.display_name,
    t.group.c.data,
    t.group.c.version,
    t.group.c.created_at,
    t.group.c.modified_at,
    t.group.c.deleted_at,
    t.group.c.left_out,
    t.group.c.waiting,
    t.group.c.name_in_use,
)


def group(connection: Connection, source_id: str, group_id: str) -> ReceivedGroupRow | None:
    """Return a group that the source has, or whose deletion waits; None without one."""
    g = t.group.c
    where = (g.id == group_id, g.source_id == source_id, g.connection_type == INBOUND_SCIM)
    present = or_(g.deleted_at.is_(None), g.waiting.is_not(None))
    row = connection.execute(select(*_GROUP).where(*where, present)).first()
    return None if row is None else ReceivedGroupRow(*row)


def some(connection: Connection, group_ids: Sequence[str]) -> list[ReceivedGroup]:
    """Return some groups, as the source sent them."""
    g = t.group.c
    rows = connection.execute(select(g.id, g.display_name, g.external_id).where(g.id.in_(group_ids)))
    return [ReceivedGroup(*row) for row in rows]


def groups_of_source(connection: Connection, source_id: str) -> list[ReceivedGroupRow]:
    """Return the groups that a source has."""
    g = t.group.c
    where = (g.source_id == source_id, g.connection_type == INBOUND_SCIM, g.deleted_at.is_(None))
    rows = connection.execute(select(*_GROUP).where(*where).order_by(g.display_name_key, g.id))
    return [ReceivedGroupRow(*row) for row in rows]


def waiting_groups(connection: Connection) -> list[tuple[str, str]]:
    """Return (source ID, group ID) of groups that wait at sources that are not disabled."""
    g, s = t.group.c, t.source.c
    statement = select(g.source_id, g.id).join(t.source, s.id == g.source_id)
    where = (g.waiting.is_not(None), s.scim_status != DISABLED, s.retired_at.is_(None))
    return [(row[0], row[1]) for row in connection.execute(statement.where(*where).order_by(g.id))]


def write_group(
    connection: Connection, seen: ReceivedGroupRow, columns: Mapping[str, Any], now: Instant
) -> bool:
    """Change columns of a group; False if it changed since it was read."""
    g = t.group.c
    where = (g.id == seen.id, g.version == seen.version, g.waiting.is_not_distinct_from(seen.waiting))
    values = {**columns, "modified_at": now}
    return connection.execute(update(t.group).where(*where).values(**values)).rowcount == 1
