"""Members of groups as a source sees them, also while they wait to count."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from typing import Any

from sqlalchemy import Connection, delete, func, insert, or_, select, update

from dravo.core.identity.acceptance import MADE_GROUP, ReceivedGroup
from dravo.core.identity.records import display_name
from dravo.core.instants import Instant
from dravo.store import tables as t
from dravo.store.groups import CHUNK

ADD, END = "add", "end"
_M = t.membership.c


def _listed_conditions() -> tuple[Any, Any]:
    """Return the conditions of members that the source lists: those that count and stay, and those that wait
    to be added. They are used in separate queries, because each has its own index.
    """
    return (
        (_M.until_at.is_(None)) & (or_(_M.waiting.is_(None), _M.waiting != END)),
        (_M.waiting.is_not(None)) & (_M.waiting == ADD),
    )


def listing(column: Any, *where: Any) -> Any:
    """Return the select of a column of memberships that meet conditions, as the source sees them."""
    counting, added = (select(column).where(*where, each) for each in _listed_conditions())
    return counting.union_all(added)


def listed_members(connection: Connection, group_id: str) -> set[str]:
    """Return the IDs of the records and groups that a group lists."""
    found: set[str] = set()
    for condition in _listed_conditions():
        for column in (_M.record_id, _M.inner_group_id):
            where = (_M.group_id == group_id, column.is_not(None), condition)
            found.update(connection.execute(select(column).where(*where)).scalars())
    return found


def members_of(connection: Connection, group_ids: Sequence[str]) -> dict[str, list[tuple[str, str, str]]]:
    """Return for each group (ID, "User" or "Group", display name) of its members, as the source sees them."""
    found: dict[str, list[tuple[str, str, str]]] = {group_id: [] for group_id in group_ids}
    for start in range(0, len(group_ids), CHUNK):
        some = group_ids[start : start + CHUNK]
        for condition in _listed_conditions():
            _add_members(connection, some, condition, found)
    return found


def _add_members(
    connection: Connection, group_ids: Sequence[str], condition: Any, found: dict[str, list[Any]]
) -> None:
    r, g = t.record.c, t.group.c
    of_users = (
        select(_M.group_id, _M.record_id, t.user.c.display_name)
        .join(t.record, r.id == _M.record_id)
        .outerjoin(t.user, t.user.c.id == r.user_id)
        .where(_M.group_id.in_(group_ids), condition, _M.record_id.is_not(None), r.deleted_at.is_(None))
    )
    unnamed: dict[str, list[tuple[str, int]]] = {}
    for group_id, record_id, name in connection.execute(of_users):
        if name is None:
            unnamed.setdefault(record_id, []).append((group_id, len(found[group_id])))
        found[group_id].append((record_id, "User", name))
    for start in range(0, len(ids := list(unnamed)), CHUNK):
        chosen = select(r.id, r.data).where(r.id.in_(ids[start : start + CHUNK]))
        for record_id, data in connection.execute(chosen):
            for group_id, place in unnamed[record_id]:
                found[group_id][place] = (record_id, "User", display_name(data))
    of_groups = (
        select(_M.group_id, _M.inner_group_id, g.display_name)
        .join(t.group, g.id == _M.inner_group_id)
        .where(_M.group_id.in_(group_ids), condition, _M.inner_group_id.is_not(None), g.deleted_at.is_(None))
    )
    for group_id, inner_id, name in connection.execute(of_groups):
        found[group_id].append((inner_id, "Group", name))


def groups_of_records(connection: Connection, record_ids: Sequence[str]) -> dict[str, list[tuple[str, str]]]:
    """Return (group ID, name) for each record, of the groups that list it, as the source sees them."""
    found: dict[str, list[tuple[str, str]]] = {record_id: [] for record_id in record_ids}
    for start in range(0, len(record_ids), CHUNK):
        some = record_ids[start : start + CHUNK]
        for condition in _listed_conditions():
            statement = (
                select(_M.record_id, t.group.c.id, t.group.c.display_name)
                .join(t.group, t.group.c.id == _M.group_id)
                .where(_M.record_id.in_(some), _M.record_id.is_not(None), condition)
                .where(t.group.c.deleted_at.is_(None), t.group.c.connection_type != MADE_GROUP)
                .order_by(_M.id)
            )
            for record_id, group_id, name in connection.execute(statement):
                found[record_id].append((group_id, name))
    return found


def waiting_members(connection: Connection, group_id: str) -> tuple[set[str], set[str]]:
    """Return the IDs of records and groups that wait to be added to a group, and of those that end later."""
    found: dict[str, set[str]] = {ADD: set(), END: set()}
    columns = (_M.waiting, func.coalesce(_M.record_id, _M.inner_group_id))
    where = (_M.group_id == group_id, _M.waiting.is_not(None))
    for kind, member_id in connection.execute(select(*columns).where(*where)):
        found[kind].add(member_id)
    return found[ADD], found[END]


def set_waiting_members(
    connection: Connection,
    group_id: str,
    added: tuple[Collection[str], Collection[str]],
    ended: Collection[str],
    now: Instant,
) -> None:
    """Replace the members of a group that wait.

    Args:
        added: the IDs of records, and of groups, to be added later.
        ended: the IDs of records and groups that end later.
    """
    clear_waiting_members(connection, group_id)
    of_records, of_groups = added
    rows = [
        {
            "group_id": group_id,
            "record_id": record_id,
            "inner_group_id": inner_id,
            "from_at": now,
            "until_at": now,
            "waiting": ADD,
        }
        for record_id, inner_id in (
            *((each, None) for each in sorted(of_records)),
            *((None, each) for each in sorted(of_groups)),
        )
    ]
    if rows:
        connection.execute(insert(t.membership), rows)
    wanted = sorted(ended)
    for start in range(0, len(wanted), CHUNK):
        some = wanted[start : start + CHUNK]
        for column in (_M.record_id, _M.inner_group_id):
            where = (_M.group_id == group_id, _M.until_at.is_(None), column.in_(some))
            connection.execute(update(t.membership).where(*where).values(waiting=END))


def clear_waiting_members(connection: Connection, group_id: str) -> None:
    """Forget the members of a group that wait."""
    where = (_M.group_id == group_id, _M.waiting.is_not(None))
    connection.execute(delete(t.membership).where(*where, _M.waiting == ADD))
    connection.execute(update(t.membership).where(*where).values(waiting=None))


def groups_by_record(
    connection: Connection, record_ids: Sequence[str], parents: Mapping[str, tuple[str, ...]]
) -> dict[str, list[ReceivedGroup]]:
    """Return the groups of records as the source sent them, those around their groups too.

    Args:
        parents: the outer groups of each nested group, by ID.
    """
    direct: dict[str, list[str]] = {each: [] for each in record_ids}
    for start in range(0, len(record_ids), CHUNK):
        some = record_ids[start : start + CHUNK]
        for condition in _listed_conditions():
            where = (_M.record_id.in_(some), _M.record_id.is_not(None), condition)
            for record_id, group_id in connection.execute(select(_M.record_id, _M.group_id).where(*where)):
                direct[record_id].append(group_id)
    around = {group_id: _with_parents(group_id, parents) for some in direct.values() for group_id in some}
    wanted = sorted({each for some in around.values() for each in some})
    known: dict[str, ReceivedGroup] = {}
    g = t.group.c
    for start in range(0, len(wanted), CHUNK):
        some_groups = (
            g.id.in_(wanted[start : start + CHUNK]),
            g.deleted_at.is_(None),
            g.connection_type != MADE_GROUP,
        )
        columns = (g.id, g.display_name, g.external_id, g.native_id, g.reference)
        for row in connection.execute(select(*columns).where(*some_groups)):
            more = tuple(each for each in row[3:] if each)
            known[row[0]] = ReceivedGroup(row[0], row[1], row[2], more)
    return {
        record_id: [
            known[each]
            for each in dict.fromkeys(one for group_id in listed for one in around[group_id])
            if each in known
        ]
        for record_id, listed in direct.items()
    }


def _with_parents(group_id: str, parents: Mapping[str, tuple[str, ...]]) -> list[str]:
    found = [group_id]
    for each in found:
        found += [outer for outer in parents.get(each, ()) if outer not in found]
    return found
