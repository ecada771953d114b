"""A source's own people: reading, finding, writing."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from sqlalchemy import Connection, bindparam, insert, select, update

from dravo.core.instants import Instant
from dravo.core.records import searchable
from dravo.store import tables as t
from dravo.store.own import COLUMNS

_ONE = select(*COLUMNS[t.record]).where(
    t.record.c.id == bindparam("id"),
    t.record.c.source_id == bindparam("source"),
    t.record.c.channel == bindparam("channel"),
    t.record.c.gone_at.is_(None),
)
_MAKE = insert(t.record)
_PRESENT = (t.record.c.id == bindparam("record"), t.record.c.version == bindparam("seen"), t.record.c.gone_at.is_(None))
_CONTENT = {
    "data": bindparam("content", type_=t.record.c.data.type),
    "version": t.record.c.version + 1,
    "modified_at": bindparam("at"),
}
# Content alone touches no index.
_WRITE = update(t.record).where(*_PRESENT).values(**_CONTENT)
_REPLACE = (
    update(t.record)
    .where(*_PRESENT)
    .values(**_CONTENT, user_name_key=bindparam("name"), external_id=bindparam("external"), gone_at=bindparam("gone"))
)


def get(connection: Connection, source_id: str, channel: str, record_id: str) -> Any:
    """Return one record that the source has, or None."""
    return connection.execute(_ONE, {"id": record_id, "source": source_id, "channel": channel}).first()


def make(connection: Connection, record_id: str, source_id: str, channel: str, user_id: str, data: Mapping[str, Any], now: Instant) -> None:
    """Write a new record."""
    found = searchable(data)
    connection.execute(
        _MAKE,
        {
            "id": record_id,
            "source_id": source_id,
            "channel": channel,
            "user_id": user_id,
            "user_name_key": found.user_name_key,
            "external_id": found.external_id,
            "data": data,
            "version": 1,
            "created_at": now,
            "modified_at": now,
        },
    )


def write(
    connection: Connection, record_id: str, seen: int, before: Mapping[str, Any], data: Mapping[str, Any], now: Instant, *, gone: bool = False
) -> bool:
    """Write what a source now says, in place of what it said before; False if the record is no longer at the version seen."""
    found, known = searchable(data), searchable(before)
    given = {"record": record_id, "seen": seen, "content": data, "at": now}
    if not gone and (found.user_name_key, found.external_id) == (known.user_name_key, known.external_id):
        return connection.execute(_WRITE, given).rowcount == 1
    given |= {"name": found.user_name_key, "external": found.external_id, "gone": now if gone else None}
    return connection.execute(_REPLACE, given).rowcount == 1
