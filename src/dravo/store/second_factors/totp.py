"""TOTP secrets, and whether an owner has a second factor at all."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from sqlalchemy import ColumnElement, Connection, delete, exists, insert, or_, select, update

from dravo.core.instants import Instant
from dravo.store import tables as t


@dataclass(frozen=True)
class StoredTotp:
    """A row of the table of second factors, in the order of its columns.

    Attributes:
        secret, pending: the encrypted secret, and one that is not confirmed yet.
        counter: the time step of the last used code.
    """

    owner_id: str
    secret: str | None = field(repr=False)
    pending: str | None = field(repr=False)
    since: Instant | None
    counter: int | None


def get(connection: Connection, owner_id: str) -> StoredTotp | None:
    """Return the TOTP secret of an owner, or None."""
    row = connection.execute(select(t.second_factor).where(t.second_factor.c.owner_id == owner_id)).first()
    return None if row is None else StoredTotp(*row)


def set_pending(connection: Connection, owner_id: str, secret: str) -> None:
    """Store an encrypted secret that is not confirmed yet; the confirmed one stays."""
    f = t.second_factor
    changed = connection.execute(update(f).where(f.c.owner_id == owner_id).values(pending=secret))
    if not changed.rowcount:
        connection.execute(insert(f).values(owner_id=owner_id, pending=secret))


def confirm(connection: Connection, owner_id: str, counter: int, now: Instant) -> None:
    """Make the pending secret the one that counts."""
    f = t.second_factor
    values = {"secret": f.c.pending, "pending": None, "since": now, "counter": counter}
    connection.execute(update(f).where(f.c.owner_id == owner_id).values(**values))


def use_counter(connection: Connection, owner_id: str, counter: int) -> bool:
    """Note the time step of a code; return False if this step or a later one was used before."""
    f = t.second_factor
    fresh = (f.c.owner_id == owner_id, or_(f.c.counter.is_(None), f.c.counter < counter))
    return connection.execute(update(f).where(*fresh).values(counter=counter)).rowcount == 1


def delete_totp(connection: Connection, owner_id: str) -> None:
    """Delete the TOTP secret of an owner."""
    connection.execute(delete(t.second_factor).where(t.second_factor.c.owner_id == owner_id))


def has_factor(owner_id: Any) -> ColumnElement[bool]:
    """Return the condition that an owner has a second factor, TOTP or a passkey.

    Args:
        owner_id: an ID, or a column with IDs.
    """
    f, p = t.second_factor.c, t.passkey.c
    return or_(
        exists().where(f.owner_id == owner_id, f.secret.is_not(None)),
        exists().where(p.owner_id == owner_id),
    )
