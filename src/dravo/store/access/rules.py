"""What rules read of active users: attributes, groups, and the records of single sources."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Collection, Iterator
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection, func, select

from dravo.core.identity.records import UserRecord
from dravo.store import groups, records
from dravo.store import tables as t


@dataclass(frozen=True)
class ActiveUser:
    """An active user with the merged SCIM attributes."""

    id: str
    display_name: str
    user_name: str
    attributes: dict[str, Any]


def active_users(connection: Connection) -> Iterator[ActiveUser]:
    """Yield all active users by name."""
    u = t.user.c
    statement = select(u.id, u.display_name, u.user_name, u.attributes).where(u.active.is_(True))
    ordered = statement.order_by(u.display_name_key).execution_options(yield_per=2_000)
    for row in connection.execute(ordered):
        yield ActiveUser(*row)


def number_of_active_users(connection: Connection) -> int:
    """Return how many users are active."""
    statement = select(func.count()).select_from(t.user).where(t.user.c.active.is_(True))
    return int(connection.execute(statement).scalar_one())


def sources_of_users(connection: Connection) -> dict[str, list[str]]:
    """Return by user ID the IDs of the sources that report the user."""
    r = t.record.c
    found: defaultdict[str, list[str]] = defaultdict(list)
    counts = (r.deleted_at.is_(None), r.user_id.is_not(None), r.left_out.is_(None))
    statement = select(r.user_id, r.source_id).where(*counts).distinct()
    for user_id, source_id in connection.execute(statement):
        found[user_id].append(source_id)
    return found


def groups_of_users(connection: Connection) -> dict[str, list[str]]:
    """Return by user ID the IDs of the groups that list the user."""
    found: defaultdict[str, list[str]] = defaultdict(list)
    listed = groups.listed(select(t.group.c.id).where(t.group.c.deleted_at.is_(None)))
    for user_id, group_id in connection.execute(select(listed)):
        found[user_id].append(group_id)
    return found


def records_of_sources(connection: Connection, source_ids: Collection[str]) -> Iterator[UserRecord]:
    """Yield the records of some sources, without those that wait for the decision of a conflict."""
    r = t.record.c
    where = (r.source_id.in_(source_ids), ~records.GONE, r.user_id.is_not(None), r.undecided.is_(False))
    columns = (r.id, r.source_id, r.connection_type, records.IN_USE, r.user_id)
    statement = select(*columns).where(*where)
    for record_id, source_id, connection_type, data, user_id in connection.execute(statement):
        yield UserRecord(record_id, source_id, connection_type, data, user_id)
