"""Our keys towards the providers of sources."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from sqlalchemy import Connection, insert, or_, select, update

from dravo.core.instants import Instant
from dravo.store import tables as t


@dataclass(frozen=True)
class StoredKey:
    """A row of the table of keys, in the order of its columns; `secret` is encrypted."""

    id: str
    source_id: str
    secret: str = field(repr=False)
    certificate: str
    created_at: Instant
    signs_from: Instant
    retired_at: Instant | None


def valid_of_source(connection: Connection, source_id: str, now: Instant) -> list[StoredKey]:
    """Return the keys of a source that are not retired, those that sign last first."""
    k = t.sign_in_key.c
    where = (k.source_id == source_id, or_(k.retired_at.is_(None), k.retired_at > now))
    statement = select(t.sign_in_key).where(*where).order_by(k.signs_from.desc(), k.id.desc())
    return [StoredKey(*row) for row in connection.execute(statement)]


def insert_key(connection: Connection, row: Mapping[str, Any]) -> None:
    """Insert a key."""
    connection.execute(insert(t.sign_in_key).values(**row))


def use_key(connection: Connection, source_id: str, key_id: str, now: Instant, former_until: Instant) -> None:
    """Sign with a key from now on; the other keys of the source decrypt until a later instant."""
    k = t.sign_in_key.c
    others = (k.source_id == source_id, k.id != key_id, k.retired_at.is_(None))
    connection.execute(update(t.sign_in_key).where(*others).values(retired_at=former_until))
    connection.execute(update(t.sign_in_key).where(k.id == key_id).values(signs_from=now))
