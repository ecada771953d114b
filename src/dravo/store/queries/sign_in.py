"""Reads who signs in through a source."""

from __future__ import annotations

from collections import defaultdict
from typing import Any

from sqlalchemy import Connection, Select, func, select

from dravo.core.identity.names import fold
from dravo.core.instants import Instant
from dravo.store import tables as t

SIGN_IN = "sign_in"


def number_of_sessions(connection: Connection, source_id: str) -> int:
    """Return the number of sessions of users who signed in through a source."""
    s = t.user_session.c
    return _number(
        connection, select(func.count()).select_from(t.user_session).where(s.source_id == source_id)
    )


def number_of_users(connection: Connection, source_id: str) -> int:
    """Return the number of users who are linked for sign-in through a source."""
    r = t.record.c
    where = (r.source_id == source_id, r.connection_type == SIGN_IN, r.deleted_at.is_(None))
    return _number(connection, select(func.count(r.user_id.distinct())).where(*where))


def number_in_pilot(connection: Connection, source_id: str, pilot: str) -> int:
    """Return the number of users in the pilot group of a source.

    Args:
        connection: a reading connection.
        source_id: the source.
        pilot: the name or the ID of a group of the source, or of a local group.
    """
    m, g, r = t.membership.c, t.group.c, t.record.c
    statement = (
        select(func.count(func.coalesce(r.user_id, m.user_id).distinct()))
        .select_from(t.membership)
        .join(t.group, g.id == m.group_id)
        .outerjoin(t.record, r.id == m.record_id)
        .where(
            m.until_at.is_(None),
            g.deleted_at.is_(None),
            (g.display_name_key == fold(pilot)) | (g.id == pilot),
            (g.source_id == source_id) | g.source_id.is_(None),
        )
    )
    return _number(connection, statement)


def users_with_claims_before(source_id: str, before: Instant) -> Select[str]:
    """Return the select of users whose claimed memberships are older than an instant."""
    r = t.record.c
    return select(r.user_id).where(
        r.source_id == source_id,
        r.connection_type == SIGN_IN,
        r.claims_seen_at.is_not(None),
        r.claims_seen_at < before,
    )


def groups_by_claims_before(
    connection: Connection, source_id: str, before: Instant
) -> dict[str, frozenset[str]]:
    """Return by user ID the groups of a user that only such old claims report."""
    m, r = t.membership.c, t.record.c
    by_user: defaultdict[str, set[str]] = defaultdict(set)
    others: defaultdict[str, set[str]] = defaultdict(set)
    users = users_with_claims_before(source_id, before)
    statement = (
        select(r.user_id, m.group_id, r.source_id, r.connection_type)
        .join(t.record, r.id == m.record_id)
        .where(m.until_at.is_(None), r.user_id.in_(users))
    )
    for user_id, group_id, of_source, connection_type in connection.execute(statement):
        claimed = (of_source, connection_type) == (source_id, SIGN_IN)
        (by_user if claimed else others)[user_id].add(group_id)
    direct = select(m.user_id, m.group_id).where(m.until_at.is_(None), m.user_id.in_(users))
    for user_id, group_id in connection.execute(direct):
        others[user_id].add(group_id)
    return {user_id: frozenset(groups - others[user_id]) for user_id, groups in by_user.items()}


def _number(connection: Connection, statement: Select[Any]) -> int:
    return int(connection.execute(statement).scalar_one())
