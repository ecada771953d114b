"""Passkeys (WebAuthn credentials)."""

from __future__ import annotations

from dataclasses import dataclass

from sqlalchemy import Connection, delete, func, insert, select, update

from dravo.core.instants import Instant
from dravo.store import tables as t


@dataclass(frozen=True)
class StoredPasskey:
    """A row of the table of passkeys, in the order of its columns.

    Attributes:
        credential_id, public_key: in base64url.
        sign_count: the signature counter of the authenticator, 0 if it has none.
    """

    id: str
    owner_id: str
    credential_id: str
    public_key: str
    sign_count: int
    label: str
    created_at: Instant
    last_used_at: Instant | None


def insert_passkey(connection: Connection, passkey: StoredPasskey) -> None:
    """Insert a passkey.

    Raises:
        IntegrityError: if the credential is registered already.
    """
    connection.execute(insert(t.passkey).values(**vars(passkey)))


def of_owner(connection: Connection, owner_id: str) -> list[StoredPasskey]:
    """Return the passkeys of an owner, the oldest first."""
    statement = select(t.passkey).where(t.passkey.c.owner_id == owner_id).order_by(t.passkey.c.id)
    return [StoredPasskey(*row) for row in connection.execute(statement)]


def number_of(connection: Connection, owner_id: str) -> int:
    """Return the number of passkeys of an owner."""
    statement = select(func.count()).select_from(t.passkey).where(t.passkey.c.owner_id == owner_id)
    return int(connection.execute(statement).scalar_one())


def note_use(connection: Connection, passkey_id: str, before: int, after: int, now: Instant) -> bool:
    """Note the use of a passkey; return False if its counter changed meanwhile, or it is deleted."""
    p = t.passkey.c
    statement = update(t.passkey).where(p.id == passkey_id, p.sign_count == before)
    return connection.execute(statement.values(sign_count=after, last_used_at=now)).rowcount == 1


def delete_passkey(connection: Connection, owner_id: str, passkey_id: str) -> str | None:
    """Delete a passkey of an owner; return its label, or None."""
    p = t.passkey.c
    here = (p.id == passkey_id, p.owner_id == owner_id)
    label = connection.execute(select(p.label).where(*here)).scalar()
    connection.execute(delete(t.passkey).where(*here))
    return label


def delete_of_owner(connection: Connection, owner_id: str) -> None:
    """Delete all passkeys of an owner."""
    connection.execute(delete(t.passkey).where(t.passkey.c.owner_id == owner_id))
