"""The queue of outbound email."""

from __future__ import annotations

from dataclasses import dataclass, field

from sqlalchemy import Connection, delete, func, insert, select, update

from dravo.core.instants import Instant
from dravo.store import tables as t
from dravo.store.ids import new_id


@dataclass(frozen=True)
class QueuedMail:
    """A message that is not sent yet.

    Attributes:
        content: the encrypted message.
        until_at: the end of the time in which it is worth sending.
        tries: the number of failed attempts.
        trouble: the error of the last one, or None.
    """

    id: str
    content: str = field(repr=False)
    created_at: Instant
    until_at: Instant
    next_at: Instant
    tries: int
    trouble: str | None


def number(connection: Connection) -> int:
    """Return the number of messages in the queue."""
    return int(connection.execute(select(func.count()).select_from(t.outbound_mail)).scalar_one())


def insert_message(connection: Connection, content: str, now: Instant, until_at: Instant) -> None:
    """Queue an encrypted message, to be sent at once."""
    connection.execute(
        insert(t.outbound_mail).values(
            id=new_id(), content=content, created_at=now, until_at=until_at, next_at=now
        )
    )


def due(connection: Connection, now: Instant, limit: int) -> list[QueuedMail]:
    """Return messages that are due, the longest due first."""
    m = t.outbound_mail.c
    statement = select(t.outbound_mail).where(m.next_at <= now).order_by(m.next_at).limit(limit)
    return [QueuedMail(*row) for row in connection.execute(statement)]


def postpone(connection: Connection, message_id: str, tries: int, next_at: Instant, trouble: str) -> None:
    """Store a failed attempt and the time of the next one."""
    connection.execute(
        update(t.outbound_mail)
        .where(t.outbound_mail.c.id == message_id)
        .values(tries=tries, next_at=next_at, trouble=trouble)
    )


def delete_message(connection: Connection, message_id: str) -> None:
    """Remove a message from the queue."""
    connection.execute(delete(t.outbound_mail).where(t.outbound_mail.c.id == message_id))
