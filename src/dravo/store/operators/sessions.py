"""Sessions of operators."""

from __future__ import annotations

from dataclasses import dataclass, field

from sqlalchemy import Connection, delete, insert, select, update

from dravo.core.instants import Instant
from dravo.store import tables as t
from dravo.store.second_factors.totp import has_factor

MOST_LISTED = 50


@dataclass(frozen=True)
class OperatorSession:
    """A row of the table of sessions.

    Attributes:
        hash: the digest of the session's secret.
        source_id: the source of the sign-in; None with a password.
        provider_session, subject, subject_format: how the provider knows the session, for single logout.
    """

    hash: str = field(repr=False)
    operator_id: str
    source_id: str | None
    provider_session: str | None
    subject: str | None
    subject_format: str | None
    created_at: Instant
    last_seen_at: Instant
    expires_at: Instant


@dataclass(frozen=True)
class SessionOwner:
    """The operator of a current session.

    Attributes:
        id, name, kind, masked, masked_names, masked_networks, hidden_areas, has_factor: of the operator.
        last_seen_at, source_id: of the session.
    """

    id: str
    name: str
    kind: str
    masked: bool
    masked_names: bool
    masked_networks: bool
    hidden_areas: list[str] | None
    has_factor: bool
    last_seen_at: Instant
    source_id: str | None


@dataclass(frozen=True)
class ListedSession:
    """A session with the source of its sign-in."""

    session: OperatorSession
    source_key: str | None
    source_label: str | None


def insert_session(connection: Connection, session: OperatorSession) -> None:
    """Insert a session."""
    connection.execute(insert(t.operator_session).values(**vars(session)))


def owner_of(
    connection: Connection, session_hash: str, now: Instant, idle_since: Instant
) -> SessionOwner | None:
    """Return the operator of a current session; None if it is unknown, expired or idle, or for a disabled
    operator.
    """
    s, o = t.operator_session.c, t.operator.c
    row = connection.execute(
        select(
            o.id,
            o.name,
            o.kind,
            o.masked,
            o.masked_names,
            o.masked_networks,
            o.hidden_areas,
            has_factor(o.id).label("has_factor"),
            s.last_seen_at,
            s.source_id,
        )
        .join(t.operator, o.id == s.operator_id)
        .where(
            s.hash == session_hash, s.expires_at > now, s.last_seen_at > idle_since, o.disabled_at.is_(None)
        )
    ).first()
    return None if row is None else SessionOwner(**row._mapping)


def note_use(connection: Connection, session_hash: str, now: Instant) -> None:
    """Note that a session is in use."""
    s = t.operator_session.c
    connection.execute(update(t.operator_session).where(s.hash == session_hash).values(last_seen_at=now))


def take(connection: Connection, session_hash: str) -> OperatorSession | None:
    """Delete a session and return it, or None."""
    here = t.operator_session.c.hash == session_hash
    row = connection.execute(select(t.operator_session).where(here)).first()
    connection.execute(delete(t.operator_session).where(here))
    return None if row is None else OperatorSession(*row)


def list_sessions(
    connection: Connection, operator_id: str, now: Instant, idle_since: Instant
) -> list[ListedSession]:
    """Return the current sessions of an operator, newest first."""
    s, columns = t.operator_session.c, len(t.operator_session.c)
    statement = (
        select(t.operator_session, t.source.c.key, t.source.c.label)
        .outerjoin(t.source, t.source.c.id == s.source_id)
        .where(s.operator_id == operator_id, s.expires_at > now, s.last_seen_at > idle_since)
        .order_by(s.created_at.desc())
        .limit(MOST_LISTED)
    )
    return [
        ListedSession(OperatorSession(*row[:columns]), row.key, row.label)
        for row in connection.execute(statement)
    ]


def delete_expired(connection: Connection, now: Instant) -> None:
    """Delete expired sessions."""
    connection.execute(delete(t.operator_session).where(t.operator_session.c.expires_at < now))


def delete_of_operator(connection: Connection, operator_id: str, but: str = "") -> int:
    """Delete the sessions of an operator, except one by its hash; return their number."""
    s = t.operator_session.c
    where = (s.operator_id == operator_id, s.hash != but)
    return connection.execute(delete(t.operator_session).where(*where)).rowcount


def delete_of_source(connection: Connection, source_id: str, operator_id: str | None = None) -> None:
    """Delete the sessions of operators who signed in through a source, or those of one operator."""
    s = t.operator_session.c
    where = [s.source_id == source_id, *([s.operator_id == operator_id] if operator_id else [])]
    connection.execute(delete(t.operator_session).where(*where))


def delete_of_subject(
    connection: Connection, source_id: str, subject: str, sessions: tuple[str, ...]
) -> None:
    """Delete sessions that a provider ends: those of a subject, all or some of them."""
    s = t.operator_session.c
    where = [s.source_id == source_id, s.subject == subject]
    if sessions:
        where.append(s.provider_session.in_(sessions))
    connection.execute(delete(t.operator_session).where(*where))
