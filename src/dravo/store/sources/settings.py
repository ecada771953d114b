"""Import settings and sign-in settings of sources."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from sqlalchemy import Connection, select

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
