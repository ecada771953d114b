"""Sessions of users, and what signed-in users see."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from sqlalchemy import Connection, delete, insert, select, update

from dravo.core.instants import Instant
from dravo.store import tables as t
from dravo.store.provisioning import icons


@dataclass(frozen=True)
class StoredSession:
    """A row of the table of user sessions, in the order of its columns.

    Attributes:
        hash: the hash of the session's secret.
        session, subject, subject_format: the session and the user as the provider names them.
    """

    id: str
    hash: str
    user_id: str
    source_id: str
    session: str | None
    subject: str
    subject_format: str | None
    created_at: Instant
    last_seen_at: Instant
    until_at: Instant


def insert_session(connection: Connection, session: StoredSession) -> None:
    """Insert a session."""
    connection.execute(insert(t.user_session).values(**vars(session)))


def valid_by_hash(
    connection: Connection, secret_hash: str, now: Instant, seen_after: Instant
) -> StoredSession | None:
    """Return a session of an active user that is not over and was used after an instant, or None."""
    v, u = t.user_session.c, t.user.c
    statement = (
        select(t.user_session)
        .join(t.user, u.id == v.user_id)
        .where(v.hash == secret_hash, v.until_at > now, v.last_seen_at > seen_after)
        .where(u.active.is_(True), u.left_at.is_(None))
    )
    row = connection.execute(statement).first()
    return None if row is None else StoredSession(*row)


def note_use(connection: Connection, session_id: str, now: Instant) -> None:
    """Note that a session was used."""
    connection.execute(
        update(t.user_session).where(t.user_session.c.id == session_id).values(last_seen_at=now)
    )


def take(connection: Connection, session_id: str) -> StoredSession | None:
    """Delete a session, and return it; None if it is gone."""
    v = t.user_session.c
    row = connection.execute(select(t.user_session).where(v.id == session_id)).first()
    connection.execute(delete(t.user_session).where(v.id == session_id))
    return None if row is None else StoredSession(*row)


def delete_of_user(connection: Connection, user_id: str, but: str = "") -> int:
    """Delete the sessions of a user, but one by ID; return their number."""
    s = t.user_session.c
    return connection.execute(delete(t.user_session).where(s.user_id == user_id, s.id != but)).rowcount


def delete_of_source(connection: Connection, source_id: str) -> None:
    """Delete the sessions of all users who signed in through a source."""
    connection.execute(delete(t.user_session).where(t.user_session.c.source_id == source_id))


def delete_of_subject(connection: Connection, source_id: str, subject: str, sessions: Sequence[str]) -> None:
    """Delete the sessions of a subject of a provider: those with some provider sessions, or all."""
    v = t.user_session.c
    where = [v.source_id == source_id, v.subject == subject]
    if sessions:
        where.append(v.session.in_(sessions))
    connection.execute(delete(t.user_session).where(*where))


@dataclass(frozen=True)
class ListedSession:
    """A session with its source, in the order of the select."""

    id: str
    created_at: Instant
    last_seen_at: Instant
    until_at: Instant
    source_key: str
    source_label: str


def of_user(connection: Connection, user_id: str, now: Instant, most: int) -> list[ListedSession]:
    """Return the sessions of a user that are not over, newest first."""
    v, s = t.user_session.c, t.source.c
    statement = (
        select(v.id, v.created_at, v.last_seen_at, v.until_at, s.key, s.label)
        .join(t.source, s.id == v.source_id)
        .where(v.user_id == user_id, v.until_at > now)
        .order_by(v.created_at.desc())
        .limit(most)
    )
    return [ListedSession(*row) for row in connection.execute(statement)]


@dataclass(frozen=True)
class OwnRole:
    """A role of a user in an application that is not hidden."""

    application_id: str
    application_key: str
    application_label: str
    address: str | None
    icon: str | None
    role: str
    since: Instant


def own_roles(connection: Connection, user_id: str) -> list[OwnRole]:
    """Return the roles of a user in applications that are not hidden, by application, the highest first."""
    x, p, r = t.access.c, t.application.c, t.role.c
    statement = (
        select(p.id, p.key, p.label, p.address, icons.version_of(p.id), r.label, x.from_at)
        .join(t.application, p.id == x.application_id)
        .join(t.role, r.id == x.role_id)
        .where(x.user_id == user_id, x.until_at.is_(None), p.hidden.is_(False))
        .order_by(p.label, p.id, r.rank.desc())
    )
    return [OwnRole(*row) for row in connection.execute(statement)]
