"""Sign-in settings of all sources."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection, delete, insert, select, update

from dravo.core.instants import Instant
from dravo.store import tables as t
from dravo.store.sources.settings import SourceSignIn


@dataclass(frozen=True)
class NamedSignIn(SourceSignIn):
    """The sign-in settings of a source, with its key and label."""

    key: str
    label: str


def list_sign_ins(connection: Connection) -> list[NamedSignIn]:
    """Return the sign-in settings of all sources by label."""
    s = t.source.c
    statement = select(t.source_sign_in, s.key, s.label).join(t.source, s.id == t.source_sign_in.c.source_id)
    return [NamedSignIn(*row) for row in connection.execute(statement.order_by(s.label, s.id))]


def insert_sign_in(connection: Connection, row: Mapping[str, Any]) -> None:
    """Insert the sign-in settings of a source."""
    connection.execute(insert(t.source_sign_in).values(**row))


def update_unchanged(connection: Connection, row: SourceSignIn, **values: Any) -> bool:
    """Change columns of sign-in settings, unless they were changed since they were read; return whether."""
    s = t.source_sign_in.c
    where = (s.source_id == row.source_id, s.changed_at == row.changed_at)
    return bool(connection.execute(update(t.source_sign_in).where(*where).values(**values)).rowcount)


def delete_sign_in(connection: Connection, source_id: str) -> None:
    """Delete the sign-in of a source, with its sessions, keys and test sign-ins."""
    for table in (t.user_session, t.sign_in_request, t.sign_in_key, t.test_sign_in, t.source_sign_in):
        connection.execute(delete(table).where(table.c.source_id == source_id))


def fetched_before(connection: Connection, before: Instant) -> list[SourceSignIn]:
    """Return the sign-in settings whose provider metadata was not fetched since an instant."""
    s = t.source_sign_in.c
    statement = select(t.source_sign_in).where((s.looked_at.is_(None)) | (s.looked_at < before))
    return [SourceSignIn(*row) for row in connection.execute(statement)]


def has_due_activation(connection: Connection, now: Instant) -> bool:
    """Return whether the start time of a source's sign-in has come."""
    s = t.source_sign_in.c
    due = (s.enabled_from.is_not(None), s.enabled_from <= now)
    return connection.execute(select(s.source_id).where(*due).limit(1)).first() is not None


def enable_due(connection: Connection, now: Instant, status: str) -> None:
    """Give the sources whose start time has come a status."""
    s = t.source_sign_in.c
    due = (s.enabled_from.is_not(None), s.enabled_from <= now)
    connection.execute(update(t.source_sign_in).where(*due).values(status=status, enabled_from=None))
