"""Hands users of one source over to another: who is concerned, and what is written."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection, Select, insert, or_, select, update

from dravo.core.identity.acceptance import (
    HANDED_OVER,
    NOT_IN_PILOT,
    PENDING,
    SOURCE_DISABLED,
    UNKNOWN_USER,
)
from dravo.core.identity.records import INBOUND_SCIM
from dravo.core.instants import Instant
from dravo.store import records
from dravo.store import tables as t
from dravo.store.groups import CHUNK
from dravo.store.memberships import users_within
from dravo.store.received import records as received

PILOT, DONE, UNDONE = "pilot", "done", "undone"


@dataclass(frozen=True)
class HandOver:
    """A hand-over, in the order of the select.

    Attributes:
        status: "pilot" while only members of a group are handed over, "done", or "undone".
        assignments: the IDs of assignments that were copied.
        domains: the email domains that the new source did not own before.
        connections: what `enabled_connections` returned for the old source before.
    """

    id: str
    from_source_id: str
    to_source_id: str
    status: str
    assignments: list[str]
    domains: list[str]
    connections: dict[str, Any]
    users: int
    started_at: Instant
    changed_at: Instant
    changed_by: str


def latest(connection: Connection, source_id: str) -> HandOver | None:
    """Return the last hand-over from a source, or None."""
    h = t.hand_over.c
    statement = select(t.hand_over).where(h.from_source_id == source_id).order_by(h.id.desc()).limit(1)
    row = connection.execute(statement).first()
    return None if row is None else HandOver(*row)


def insert_one(connection: Connection, values: Mapping[str, Any]) -> None:
    """Insert a hand-over."""
    connection.execute(insert(t.hand_over).values(**values))


def change(connection: Connection, hand_over_id: str, **values: Any) -> None:
    """Change columns of a hand-over."""
    connection.execute(update(t.hand_over).where(t.hand_over.c.id == hand_over_id).values(**values))


def enabled_connections(connection: Connection, source_id: str) -> dict[str, Any]:
    """Return which connections of a source are enabled: {"sign_in": status, "import": bool}."""
    i, g = t.source_import.c, t.source_sign_in.c
    enabled = connection.execute(select(i.enabled).where(i.source_id == source_id)).scalar()
    status = connection.execute(select(g.status).where(g.source_id == source_id)).scalar()
    return {"import": bool(enabled), "sign_in": status}


def enable_connections(
    connection: Connection, source_id: str, before: Mapping[str, Any], now: Instant
) -> None:
    """Enable the connections of a source again that were enabled before."""
    if before.get("import"):
        i = t.source_import.c
        values = {"enabled": True, "next_at": now}
        connection.execute(update(t.source_import).where(i.source_id == source_id).values(**values))
    if before.get("sign_in"):
        g = t.source_sign_in.c
        statement = update(t.source_sign_in).where(g.source_id == source_id)
        connection.execute(statement.values(status=before["sign_in"]))


@dataclass(frozen=True)
class Person:
    """A user of the old source: the ID, the compared user name and email, and the displayed name."""

    id: str
    user_name_key: str
    email_key: str | None
    name: str


def users_to_hand_over(source_id: str, group_id: str | None) -> Select[str]:
    """Return the select of users whose records of a source count, or of those in a group."""
    r = t.record.c
    counts = (r.source_id == source_id, ~records.GONE, r.user_id.is_not(None))
    mine = select(r.user_id).where(*counts).distinct()
    return mine if group_id is None else mine.where(r.user_id.in_(users_within(group_id)))


def population(connection: Connection, source_id: str, group_id: str | None) -> list[Person]:
    """Return the users that a source reports, by name; those in a group if one is given."""
    u = t.user.c
    statement = select(u.id, u.user_name_key, u.email_key, u.display_name).where(
        u.id.in_(users_to_hand_over(source_id, group_id))
    )
    return [Person(*row) for row in connection.execute(statement.order_by(u.display_name_key, u.id))]


def reported_users(connection: Connection, source_id: str) -> set[str]:
    """Return the IDs of users with a record of a source that counts, without open conflicts."""
    r = t.record.c
    where = (r.source_id == source_id, ~records.GONE, r.user_id.is_not(None), r.undecided.is_(False))
    return set(connection.execute(select(r.user_id).where(*where)).scalars())


@dataclass(frozen=True)
class LooseRecord:
    """A record that counts for no user yet, or is in an open conflict about its user."""

    id: str
    user_id: str | None
    connection_type: str
    data: dict[str, Any]
    version: int


# Why records without a user wait that can be linked; those outside the scope or of erased users cannot.
_LINKABLE = (PENDING, SOURCE_DISABLED, NOT_IN_PILOT, UNKNOWN_USER)


def loose_records(connection: Connection, source_id: str) -> list[LooseRecord]:
    """Return the records of a source that could be linked to users of another one."""
    r = t.record.c
    waits = r.user_id.is_(None) & r.left_out.in_(_LINKABLE)
    where = (r.source_id == source_id, r.deleted_at.is_(None), or_(waits, r.undecided & r.left_out.is_(None)))
    columns = (r.id, r.user_id, r.connection_type, records.IN_USE, r.version)
    return [LooseRecord(*row) for row in connection.execute(select(*columns).where(*where).order_by(r.id))]


def link(connection: Connection, record: LooseRecord, user_id: str) -> bool:
    """Link a record to a user; False if it changed since it was read."""
    r = t.record.c
    where = (r.id == record.id, r.version == record.version, r.user_id.is_not_distinct_from(record.user_id))
    values = {"user_id": user_id, "left_out": None, "undecided": False}
    return connection.execute(update(t.record).where(*where).values(**values)).rowcount == 1


def leave_out(connection: Connection, source_id: str, user_ids: Sequence[str]) -> None:
    """Let the records of some users at a source count no more."""
    r = t.record.c
    for start in range(0, len(user_ids), CHUNK):
        where = (
            r.source_id == source_id,
            r.user_id.in_(user_ids[start : start + CHUNK]),
            r.left_out.is_(None),
        )
        connection.execute(update(t.record).where(*where).values(left_out=HANDED_OVER))


def take_back(connection: Connection, source_id: str, now: Instant) -> None:
    """Let all records of a source count again that were handed over.

    Those of inbound SCIM are marked, because the source may have changed them in the meantime.
    """
    r = t.record.c
    where = (r.source_id == source_id, r.left_out == HANDED_OVER)
    sent = select(r.id).where(*where, r.connection_type == INBOUND_SCIM, r.deleted_at.is_(None))
    received.mark_selected(connection, source_id, sent, now)
    connection.execute(update(t.record).where(*where).values(left_out=None))


def users_of(source_id: str) -> Select[str]:
    """Return the select of all users of a source, also of those whose records do not count."""
    r = t.record.c
    return select(r.user_id).where(r.source_id == source_id, r.user_id.is_not(None)).distinct()


@dataclass(frozen=True)
class GroupPair:
    """A group of the old source, with the group of the same name at the new one."""

    id: str
    name: str
    other_id: str | None


def group_pairs(connection: Connection, from_id: str, to_id: str) -> list[GroupPair]:
    """Return the groups of a source by name, each with its counterpart; none for a name that the other source
    has twice.
    """
    g = t.group.c
    columns = (g.id, g.display_name, g.display_name_key)
    of: dict[str, list[Any]] = {}
    for source_id in (from_id, to_id):
        where = (g.source_id == source_id, g.deleted_at.is_(None))
        of[source_id] = list(connection.execute(select(*columns).where(*where).order_by(g.display_name_key)))
    named: dict[str, list[str]] = {}
    for row in of[to_id]:
        named.setdefault(row.display_name_key, []).append(row.id)
    return [
        GroupPair(row.id, row.display_name, others[0] if len(others) == 1 else None)
        for row in of[from_id]
        for others in [named.get(row.display_name_key, [])]
    ]


def let_groups_count(connection: Connection, group_ids: Sequence[str]) -> None:
    """Let groups count that a disabled source sent; none of their members is a user yet."""
    g = t.group.c
    where = (g.id.in_(group_ids), g.left_out == SOURCE_DISABLED)
    connection.execute(update(t.group).where(*where).values(left_out=None))


def assignments_of(connection: Connection, source_id: str) -> list[dict[str, Any]]:
    """Return the assignments to groups of a source, to patterns and to rules about it, as rows."""
    a, g = t.assignment.c, t.group.c
    mine = select(g.id).where(g.source_id == source_id, g.deleted_at.is_(None))
    where = (a.removed_at.is_(None), or_(a.group_id.in_(mine), a.source_id == source_id))
    rows = connection.execute(select(t.assignment).where(*where).order_by(a.id))
    return [dict(row._mapping) for row in rows]


def same_assignments(connection: Connection, rows: Collection[Mapping[str, Any]]) -> set[tuple[Any, ...]]:
    """Return the keys, as `assignment_key`, of assignments to the groups and sources of some rows."""
    a = t.assignment.c
    groups = sorted({row["group_id"] for row in rows if row["group_id"]})
    sources = sorted({row["source_id"] for row in rows if row["source_id"]})
    where = or_(a.group_id.in_(groups), a.source_id.in_(sources))
    found = connection.execute(select(t.assignment).where(a.removed_at.is_(None), where))
    return {assignment_key(dict(row._mapping)) for row in found}


def assignment_key(row: Mapping[str, Any]) -> tuple[Any, ...]:
    """Return what tells an assignment apart from others."""
    names = (
        "application_id",
        "role_id",
        "group_id",
        "pattern",
        "rule",
        "expression",
        "source_id",
        "excludes",
    )
    return tuple(row[name] for name in names)


def end_assignments(connection: Connection, assignment_ids: Sequence[str], now: Instant) -> None:
    """End assignments."""
    a = t.assignment.c
    where = (a.id.in_(assignment_ids), a.removed_at.is_(None))
    connection.execute(update(t.assignment).where(*where).values(removed_at=now))
