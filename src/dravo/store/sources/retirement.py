"""Retires a source: its records, groups and memberships end, and return if it is restored."""

from __future__ import annotations

from sqlalchemy import Connection, Select, func, select, update

from dravo.core.instants import Instant
from dravo.store import tables as t


def users_of(source_id: str) -> Select[str]:
    """Return the select of users with a record of a source, deleted records included."""
    r = t.record.c
    return select(r.user_id).where(r.source_id == source_id, r.user_id.is_not(None)).distinct()


def number_of_users(connection: Connection, source_id: str) -> int:
    """Return the number of users that a source reports."""
    r = t.record.c
    statement = select(func.count(r.user_id.distinct()))
    return connection.execute(statement.where(r.source_id == source_id, r.deleted_at.is_(None))).scalar_one()


def present_groups(connection: Connection, source_id: str) -> list[str]:
    """Return the IDs of a source's groups."""
    g = t.group.c
    return list(
        connection.execute(select(g.id).where(g.source_id == source_id, g.deleted_at.is_(None))).scalars()
    )


def only_here(connection: Connection, source_id: str) -> int:
    """Return the number of users that only this source reports."""
    r, other = t.record.c, t.record.alias("other").c
    # A record without a user would make the comparison unknown for everyone.
    elsewhere = select(other.user_id).where(
        other.source_id != source_id, other.deleted_at.is_(None), other.user_id.is_not(None)
    )
    statement = select(func.count(r.user_id.distinct())).where(
        r.source_id == source_id, r.deleted_at.is_(None), r.user_id.not_in(elsewhere)
    )
    return connection.execute(statement).scalar_one()


def retire(connection: Connection, source_id: str, now: Instant) -> None:
    """End everything that a source reports, its tokens, and its connections."""
    m, g = t.membership.c, t.group.c
    groups = select(g.id).where(g.source_id == source_id, g.deleted_at.is_(None))
    for column in (m.group_id, m.inner_group_id):
        connection.execute(
            update(t.membership).where(column.in_(groups), m.until_at.is_(None)).values(until_at=now)
        )
    for table in (t.group, t.record):
        c = table.c
        connection.execute(
            update(table).where(c.source_id == source_id, c.deleted_at.is_(None)).values(deleted_at=now)
        )
    k, c = t.source_token.c, t.conflict.c
    connection.execute(
        update(t.source_token).where(k.source_id == source_id, k.revoked_at.is_(None)).values(revoked_at=now)
    )
    connection.execute(
        update(t.conflict)
        .where(c.source_id == source_id, c.status == "open")
        .values(status="over", decided_at=now)
    )
    connection.execute(
        update(t.source_import)
        .where(t.source_import.c.source_id == source_id)
        .values(enabled=False, enabled_from=None, next_at=None)
    )
    connection.execute(
        update(t.source_sign_in)
        .where(t.source_sign_in.c.source_id == source_id)
        .values(status="disabled", enabled_from=None)
    )
    connection.execute(update(t.source).where(t.source.c.id == source_id).values(retired_at=now))


def restore(connection: Connection, source_id: str, retired_at: Instant) -> None:
    """Bring back what ended when a source was retired; tokens and connections stay as they are."""
    m, g = t.membership.c, t.group.c
    for table in (t.group, t.record):
        c = table.c
        connection.execute(
            update(table)
            .where(c.source_id == source_id, c.deleted_at == retired_at)
            .values(deleted_at=None, version=c.version + 1)
        )
    groups = select(g.id).where(g.source_id == source_id)
    for column in (m.group_id, m.inner_group_id):
        connection.execute(
            update(t.membership).where(column.in_(groups), m.until_at == retired_at).values(until_at=None)
        )
    c = t.conflict.c
    connection.execute(
        update(t.conflict)
        .where(c.source_id == source_id, c.status == "over", c.decided_at == retired_at)
        .values(status="open", decided_at=None)
    )
    connection.execute(update(t.source).where(t.source.c.id == source_id).values(retired_at=None))
