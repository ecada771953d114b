"""Steps that a browser or an email goes on with: each has a purpose, an owner and a time limit."""

from __future__ import annotations

from dataclasses import dataclass, field

from sqlalchemy import Connection, delete, func, insert, select

from dravo.core.instants import Instant
from dravo.store import tables as t


@dataclass(frozen=True)
class SignInStep:
    """A row of the table of steps, in the order of its columns.

    Attributes:
        hash: the digest of the secret that identifies the step.
        data: encrypted, or None.
    """

    hash: str
    purpose: str
    owner_id: str
    data: str | None = field(repr=False)
    until_at: Instant


def insert_step(connection: Connection, step: SignInStep) -> None:
    """Insert a step."""
    connection.execute(insert(t.sign_in_step).values(**vars(step)))


def get(connection: Connection, step_hash: str, purpose: str, now: Instant) -> SignInStep | None:
    """Return a step that is not over, or None."""
    s = t.sign_in_step.c
    where = (s.hash == step_hash, s.purpose == purpose, s.until_at > now)
    row = connection.execute(select(t.sign_in_step).where(*where)).first()
    return None if row is None else SignInStep(*row)


def take(connection: Connection, step_hash: str, purpose: str, now: Instant) -> SignInStep | None:
    """Delete a step and return it; None if it is over, or was taken before."""
    found = get(connection, step_hash, purpose, now)
    s = t.sign_in_step.c
    gone = connection.execute(delete(t.sign_in_step).where(s.hash == step_hash, s.purpose == purpose))
    return found if gone.rowcount == 1 else None


def delete_of_owner(connection: Connection, owner_id: str, purpose: str | None = None) -> None:
    """Delete the steps of an owner, all or those of a purpose."""
    s = t.sign_in_step.c
    where = [s.owner_id == owner_id, *([] if purpose is None else [s.purpose == purpose])]
    connection.execute(delete(t.sign_in_step).where(*where))


def number_of_owner(connection: Connection, owner_id: str, purpose: str, now: Instant) -> int:
    """Return the number of an owner's steps of a purpose that are not over."""
    s = t.sign_in_step.c
    where = (s.owner_id == owner_id, s.purpose == purpose, s.until_at > now)
    return int(
        connection.execute(select(func.count()).select_from(t.sign_in_step).where(*where)).scalar_one()
    )
