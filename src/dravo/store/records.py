"""A source's own users: reading, finding, writing."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import (
    ColumnElement,
    Connection,
    Select,
    and_,
    bindparam,
    delete,
    func,
    insert,
    or_,
    select,
    update,
)
from sqlalchemy.exc import IntegrityError

from dravo.core.identity.records import Searchable, UserRecord, searchable
from dravo.core.instants import Instant
from dravo.store import tables as t
from dravo.store.prepared_statements import PreparedStatement
from dravo.store.queries.source_rows import COLUMNS

# The user in use of a record, and whether it counts as deleted.
IN_USE: ColumnElement[Any] = func.coalesce(t.record.c.in_use, t.record.c.data, type_=t.record.c.data.type)
GONE: ColumnElement[bool] = or_(
    and_(t.record.c.deleted_at.is_not(None), t.record.c.waiting.is_(None)), t.record.c.left_out.is_not(None)
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


@dataclass(frozen=True)
class ScimRecord:
    """A present record of inbound SCIM, in the order of the select."""

    id: str
    user_id: str
    data: dict[str, Any]
    version: int
    created_at: Instant
    modified_at: Instant


_ONE = select(*COLUMNS[t.record]).where(
    t.record.c.id == bindparam("id"),
    t.record.c.source_id == bindparam("source"),
    t.record.c.connection_type == bindparam("connection_type"),
    t.record.c.deleted_at.is_(None),
)


def get(connection: Connection, source_id: str, connection_type: str, record_id: str) -> ScimRecord | None:
    """Return one record that the source has, or None."""
    row = connection.execute(
        _ONE, {"id": record_id, "source": source_id, "connection_type": connection_type}
    ).first()
    return None if row is None else ScimRecord(*row)


@dataclass(frozen=True)
class StoredRecord:
    """A source record of a user.

    Attributes:
        native_id: the ID that the source gives it; None for inbound SCIM.
        undecided: whether a conflict about it waits for a decision.
    """

    id: str
    source_id: str
    connection_type: str
    user_id: str
    data: dict[str, Any]
    version: int
    native_id: str | None
    undecided: bool


def _columns() -> Select[Any]:
    r = t.record.c
    columns = (r.id, r.source_id, r.connection_type, r.user_id, IN_USE, r.version, r.native_id, r.undecided)
    return select(*columns).where(r.deleted_at.is_(None), r.user_id.is_not(None))


def by_id(connection: Connection, record_id: str) -> StoredRecord | None:
    """Return a record that was not deleted, or None."""
    row = connection.execute(_columns().where(t.record.c.id == record_id)).first()
    return None if row is None else StoredRecord(*row)


def of_user(connection: Connection, user_id: str, connection_type: str) -> StoredRecord | None:
    """Return a record of a user by one connection type that was not deleted, or None."""
    r = t.record.c
    where = (r.user_id == user_id, r.connection_type == connection_type)
    row = connection.execute(_columns().where(*where)).first()
    return None if row is None else StoredRecord(*row)


def ids_of_user(connection: Connection, user_id: str) -> list[str]:
    """Return the IDs of all records of a user, deleted ones included."""
    r = t.record.c
    return list(connection.execute(select(r.id).where(r.user_id == user_id)).scalars())


def has_record(connection: Connection, source_id: str, connection_type: str, user_id: str) -> bool:
    """Return whether a connection of a source reports a user."""
    r = t.record.c
    where = (
        r.source_id == source_id,
        r.connection_type == connection_type,
        r.user_id == user_id,
        r.deleted_at.is_(None),
    )
    return connection.execute(select(r.id).where(*where).limit(1)).first() is not None


def has_user_name(
    connection: Connection, source_id: str, connection_type: str, user_name_key: str, own_id: str
) -> bool:
    """Return whether another record of a source's connection has a user name.

    Args:
        user_name_key: the user name in the form in which it is compared.
        own_id: the record that does not count.
    """
    r = t.record.c
    where = (
        r.source_id == source_id,
        r.connection_type == connection_type,
        r.user_name_key == user_name_key,
        r.deleted_at.is_(None),
        r.id != own_id,
    )
    return connection.execute(select(r.id).where(*where).limit(1)).first() is not None


def move_record(
    connection: Connection, record: StoredRecord, from_user: str, to_user: str, now: Instant
) -> bool:
    """Link a record to another user, unless it was changed since it was read; return whether."""
    r = t.record.c
    where = (
        r.id == record.id,
        r.version == record.version,
        r.user_id == from_user,
        r.deleted_at.is_(None),
    )
    values = {"user_id": to_user, "undecided": False, "modified_at": now}
    return connection.execute(update(t.record).where(*where).values(**values)).rowcount == 1


def users_of_records(record_ids: Sequence[str]) -> Select[str]:
    """Return the select of the users of some records."""
    return select(t.record.c.user_id).where(t.record.c.id.in_(record_ids))


def insert_record(
    connection: Connection, record: UserRecord, now: Instant, left_out: str | None = None
) -> None:
    """Insert a new record at version 1; `left_out` if it counts for no user."""
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
            "left_out": left_out,
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
