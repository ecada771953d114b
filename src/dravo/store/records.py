"""A source's own users: reading, finding, writing."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from sqlalchemy import Connection, bindparam, delete, insert, select, update
from sqlalchemy.exc import IntegrityError

from dravo.core.identity.records import Searchable, UserRecord, searchable
from dravo.core.instants import Instant
from dravo.store import tables as t
from dravo.store.prepared_statements import PreparedStatement
from dravo.store.queries.source_rows import COLUMNS

_ONE = select(*COLUMNS[t.record]).where(
    t.record.c.id == bindparam("id"),
    t.record.c.source_id == bindparam("source"),
    t.record.c.connection_type == bindparam("connection_type"),
    t.record.c.deleted_at.is_(None),
)
_MAKE = PreparedStatement(insert(t.record))
_PRESENT = (
    t.record.c.id == bindparam("record"),
    t.record.c.version == bindparam("seen"),
    t.record.c.deleted_at.is_(None),
)
_CONTENT = {
    "data": bindparam("content", type_=t.record.c.data.type),
    "version": t.record.c.version + 1,
    "modified_at": bindparam("at"),
}
# A change of the content only changes no index.
_WRITE = PreparedStatement(update(t.record).where(*_PRESENT).values(**_CONTENT))
_REPLACE = PreparedStatement(
    update(t.record)
    .where(*_PRESENT)
    .values(
        **_CONTENT,
        user_name_key=bindparam("name"),
        external_id=bindparam("external"),
        deleted_at=bindparam("gone"),
        email_key=bindparam("email"),
        more_emails=bindparam("emails"),
    )
)


def found_by(
    data: Mapping[str, Any], known: Searchable | None = None
) -> tuple[str, str | None, str | None, str | None]:
    """Return user name, external ID, first email and the others, for finding a record; `known` if they were
    computed before.
    """
    found = known or searchable(data)
    first, *others = found.emails or (None,)
    return found.user_name_key, found.external_id, first, "\n".join(["", *others, ""]) if others else None


def get(connection: Connection, source_id: str, connection_type: str, record_id: str) -> Any:
    """Return one record that the source has, or None."""
    return connection.execute(
        _ONE, {"id": record_id, "source": source_id, "connection_type": connection_type}
    ).first()


def insert_record(connection: Connection, record: UserRecord, now: Instant) -> None:
    """Insert a new record at version 1."""
    name, external, email, emails = found_by(record.data)
    _MAKE.change(
        connection,
        {
            "id": record.id,
            "source_id": record.source_id,
            "connection_type": record.connection_type,
            "user_id": record.user_id,
            "user_name_key": name,
            "external_id": external,
            "email_key": email,
            "more_emails": emails,
            "data": record.data,
            "version": 1,
            "undecided": record.undecided,
            "created_at": now,
            "modified_at": now,
        },
    )


def decided(connection: Connection, record_id: str, *, undecided: bool = False) -> None:
    """Note whether the user of a record is decided."""
    connection.execute(update(t.record).where(t.record.c.id == record_id).values(undecided=undecided))


def forget_user(connection: Connection, user_id: str) -> None:
    """Delete a user without records, if nothing refers to the user; others stay."""
    connection.execute(delete(t.pending_recompute).where(t.pending_recompute.c.user_id == user_id))
    try:
        with connection.begin_nested():
            connection.execute(delete(t.user).where(t.user.c.id == user_id))
    except IntegrityError:
        return


def update_record(
    connection: Connection, seen: Any, data: Mapping[str, Any], now: Instant, *, gone: bool = False
) -> bool:
    """Replace what a source reported about a user.

    Args:
        connection: the writer's connection.
        seen: the row of the record (`id`, `version`, `data`) from which the change was planned.
        data: what the source reports now.
        now: the time of the change.
        gone: whether the source deleted the record.

    Returns:
        False if the record changed since it was read.
    """
    found = found_by(data)
    given = {"record": seen.id, "seen": seen.version, "content": data, "at": now}
    if not gone and found == found_by(seen.data):
        return _WRITE.change(connection, given) == 1
    given |= dict(zip(("name", "external", "email", "emails"), found, strict=True)) | {
        "gone": now if gone else None
    }
    return _REPLACE.change(connection, given) == 1


def claim(connection: Connection, record_id: str, source_id: str, values: list[tuple[str, str]]) -> None:
    """Replace the unique values of a record.

    Raises:
        IntegrityError: if another record has one of them.
    """
    connection.execute(delete(t.record_unique).where(t.record_unique.c.record_id == record_id))
    if values:
        rows = [
            {"record_id": record_id, "source_id": source_id, "path": path, "value_key": value}
            for path, value in dict.fromkeys(values)
        ]
        connection.execute(insert(t.record_unique), rows)


def whose(
    connection: Connection, source_id: str, values: list[tuple[str, str]], own_id: str
) -> tuple[str, str] | None:
    """Return the first of some unique values that another record of the source has, or None."""
    u = t.record_unique.c
    for path, value in values:
        where = (u.source_id == source_id, u.path == path, u.value_key == value, u.record_id != own_id)
        if connection.execute(select(u.record_id).where(*where)).first():
            return path, value
    return None


def source_of_undecided(connection: Connection, user_id: str) -> str | None:
    """Return the label of a source with an undecided conflict about a user, or None."""
    r = t.record.c
    statement = (
        select(t.source.c.label)
        .join(t.record, r.source_id == t.source.c.id)
        .where(r.user_id == user_id, r.undecided.is_(True))
    )
    return connection.execute(statement).scalars().first()
