"""Import settings and sign-in settings of sources."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from sqlalchemy import Connection, and_, delete, insert, or_, select, update

from dravo.core.instants import Instant
from dravo.store import tables as t


@dataclass(frozen=True)
class SourceImport:
    """How a source is imported.

    Attributes:
        kind: "ldap", "scim" or "csv".
        settings: the settings of the connector by name.
        secret: the encrypted password or token, or None.
        enabled: whether runs apply their changes.
        schedule: a cron expression, or "".
        change_marker: from where an import of changes continues, or None.
        full_at: when all entries were read last, or None.
        checked: the result of the last connection check, or None.
    """

    source_id: str
    kind: str
    settings: dict[str, Any]
    secret: str | None = field(repr=False)
    enabled: bool
    enabled_from: Instant | None
    schedule: str
    next_at: Instant | None
    change_marker: str | None
    full_at: Instant | None
    checked: Any
    checked_at: Instant | None


@dataclass(frozen=True)
class SourceSignIn:
    """How users sign in through a source.

    Attributes:
        protocol: "saml", "oidc" or "email_code".
        settings: the settings of the protocol by name.
        provider: the metadata of the provider as it was read last, or None.
        policy: the source policy for sign-in; None for the default.
        secret: the encrypted client secret, or None.
        status: "disabled", "pilot" or "enabled".
        serves: "users", "operators" or "both".
        verified_at: when a sign-in with these settings succeeded first, or None.
        looked_at: when the metadata URL was read last, or None.
        trouble: the last error of the metadata URL, or None.
        waiting: new certificates of the provider that are not accepted yet, or None.
    """

    source_id: str
    protocol: str
    settings: Any
    provider: Any
    policy: Any
    secret: str | None = field(repr=False)
    status: str
    enabled_from: Instant | None
    serves: str
    verified_at: Instant | None
    looked_at: Instant | None
    trouble: str | None
    waiting: Any
    changed_at: Instant


def import_of(connection: Connection, source_id: str) -> SourceImport | None:
    """Return the import settings of a source, or None."""
    row = connection.execute(select(t.source_import).where(t.source_import.c.source_id == source_id)).first()
    return None if row is None else SourceImport(*row)


def sign_in_of(connection: Connection, source_id: str) -> SourceSignIn | None:
    """Return the sign-in settings of a source, or None."""
    row = connection.execute(
        select(t.source_sign_in).where(t.source_sign_in.c.source_id == source_id)
    ).first()
    return None if row is None else SourceSignIn(*row)


def serves_operators(connection: Connection, source_id: str) -> bool:
    """Return whether operators can sign in through a source."""
    i = t.source_sign_in.c
    found = select(i.source_id).where(i.source_id == source_id, i.serves != "users")
    return connection.execute(found).first() is not None


def update_sign_in(connection: Connection, source_id: str, **values: Any) -> None:
    """Change sign-in settings of a source."""
    connection.execute(
        update(t.source_sign_in).where(t.source_sign_in.c.source_id == source_id).values(**values)
    )


def insert_import(connection: Connection, values: dict[str, Any]) -> None:
    """Insert the import settings of a source."""
    connection.execute(insert(t.source_import).values(**values))


def update_import(connection: Connection, source_id: str, **values: Any) -> None:
    """Change import settings of a source."""
    connection.execute(
        update(t.source_import).where(t.source_import.c.source_id == source_id).values(**values)
    )


def update_unchanged_import(connection: Connection, row: SourceImport, **values: Any) -> None:
    """Change import settings of a source, unless those of its connector changed since `row` was read."""
    i = t.source_import.c
    same = (i.source_id == row.source_id, i.settings == row.settings)
    connection.execute(update(t.source_import).where(*same).values(**values))


def delete_import(connection: Connection, source_id: str) -> None:
    """Delete the import settings of a source."""
    connection.execute(delete(t.source_import).where(t.source_import.c.source_id == source_id))


def _is_due(now: Instant) -> Any:
    i = t.source_import.c
    return and_(i.next_at.is_not(None), i.next_at <= now)


def _starts(now: Instant) -> Any:
    i = t.source_import.c
    return and_(i.enabled_from.is_not(None), i.enabled_from <= now)


def has_due_import(connection: Connection, now: Instant) -> bool:
    """Return whether a scheduled import is due, or an import is to be enabled."""
    found = select(t.source_import.c.source_id).where(or_(_is_due(now), _starts(now))).limit(1)
    return connection.execute(found).first() is not None


def enable_started_imports(connection: Connection, now: Instant) -> None:
    """Enable imports whose time has come; they are due at once."""
    values = {"enabled": True, "enabled_from": None, "next_at": now}
    connection.execute(update(t.source_import).where(_starts(now)).values(**values))


def due_imports(connection: Connection, now: Instant) -> list[SourceImport]:
    """Return the imports whose scheduled time has come."""
    return [SourceImport(*row) for row in connection.execute(select(t.source_import).where(_is_due(now)))]
