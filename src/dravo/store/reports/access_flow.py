"""Counts access by its path: from the source over group and role to the application."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass

from sqlalchemy import Connection, func, select

from dravo.store import tables as t

CHUNK = 5_000


@dataclass(frozen=True)
class FlowCounts:
    """Access by its path.

    Attributes:
        users: by source key ("" for none), group ID or kind of reason, whether it is a group, and role ID,
            the number of users; each role of a user once, by its first reason.
        group_names: by group ID.
    """

    users: dict[tuple[str, str, bool, str], int]
    group_names: dict[str, str]


def marker(connection: Connection) -> str:
    """Return a text that changes whenever access of a user starts or ends."""
    x = t.access.c
    began = connection.execute(select(func.max(x.from_at))).scalar()
    ended = connection.execute(select(func.max(x.until_at)).where(x.until_at.is_not(None))).scalar()
    return f"{began} {ended}"


def count(connection: Connection) -> FlowCounts:
    """Count all access of now. A user belongs to the source of their first record."""
    r, s, x = t.record.c, t.source.c, t.access.c
    sources = {row.id: row.key for row in connection.execute(select(s.id, s.key).order_by(s.priority))}
    home: dict[str, str] = {}
    for user_id, source_id in connection.execute(
        select(r.user_id, r.source_id).where(r.deleted_at.is_(None), r.user_id.is_not(None)).order_by(r.id)
    ):
        home.setdefault(user_id, sources[source_id])
    users: Counter[tuple[str, str, bool, str]] = Counter()
    names: dict[str, str] = {}
    statement = select(x.user_id, x.role_id, x.reasons).where(x.until_at.is_(None))
    for row in connection.execute(statement.execution_options(yield_per=CHUNK)):
        reason = next((each for each in row.reasons if each["until"] is None), None)
        if reason is None:
            continue
        if reason["group"]:
            names[reason["group"]] = reason["group_name"] or reason["group"]
        # The source of the user, also for a local group.
        path = (reason["group"], True) if reason["group"] else (reason["kind"], False)
        users[home.get(row.user_id, ""), *path, row.role_id] += 1
    return FlowCounts(users, names)
