"""Records of imports, many at a time: what is known of them, and writing."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection, bindparam, func, insert, select, update

from dravo.core.identity.records import IMPORT, Searchable
from dravo.core.instants import Instant
from dravo.store import tables as t
from dravo.store.pagination import Item
from dravo.store.prepared_statements import PreparedStatement
from dravo.store.queries.references import UserRef
from dravo.store.records import found_by

CHUNK = 500


@dataclass(frozen=True, slots=True)
class Known:
    """A known user or group of a source, by its native ID."""

    id: str
    digest: str | None
    gone: bool


@dataclass(frozen=True)
class NewRecord:
    """A record to insert, or to replace (`version` as read)."""

    id: str
    user_id: str
    native_id: str
    reference: str
    digest: str
    reported: Mapping[str, Any]
    data: Mapping[str, Any]
    version: int = 0
    found: Searchable | None = None


def known_users(
    connection: Connection,
    source_id: str,
    native_ids: Sequence[str] | None = None,
    connection_type: str = IMPORT,
) -> dict[str, Known]:
    """Return all users that a source ever reported, by native ID; or those with some IDs."""
    return known_by_native_id(connection, t.record, source_id, native_ids, connection_type)


def known_by_native_id(
    connection: Connection, table: Any, source_id: str, native_ids: Sequence[str] | None, connection_type: str
) -> dict[str, Known]:
    """Return what is stored of records or groups of a source by native ID; of all if no IDs are given."""
    c = table.c
    statement = select(c.native_id, c.id, c.digest, c.deleted_at).where(
        c.source_id == source_id, c.connection_type == connection_type, c.native_id.is_not(None)
    )
    asked = (
        [statement]
        if native_ids is None
        else [statement.where(c.native_id.in_(some)) for some in chunks(native_ids)]
    )
    return {
        row[0]: Known(row[1], row[2], row[3] is not None)
        for each in asked
        for row in connection.execute(each)
    }


def how_many(connection: Connection, source_id: str, connection_type: str = IMPORT) -> int:
    """Return the number of users of a source, as far as known."""
    r = t.record.c
    where = (r.source_id == source_id, r.connection_type == connection_type, r.deleted_at.is_(None))
    return int(connection.execute(select(func.count()).select_from(t.record).where(*where)).scalar_one())


@dataclass(frozen=True)
class ImportedRecord:
    """A record of a user that an import or a sign-in reports."""

    id: str
    user_id: str
    version: int
    data: dict[str, Any]
    native_id: str
    reference: str | None
    user_name_key: str
    deleted_at: Instant | None


def rows(connection: Connection, record_ids: Sequence[str]) -> dict[str, ImportedRecord]:
    """Return records by ID."""
    r = t.record.c
    columns = (r.id, r.user_id, r.version, r.data, r.native_id, r.reference, r.user_name_key, r.deleted_at)
    return {
        row.id: ImportedRecord(*row)
        for some in chunks(record_ids)
        for row in connection.execute(select(*columns).where(r.id.in_(some)))
    }


@dataclass(frozen=True)
class ReportedEntry:
    """A record with the entry that the source reported."""

    id: str
    native_id: str
    reported: dict[str, Any]


def reported(
    connection: Connection, source_id: str, after: str = "", most: int = CHUNK, connection_type: str = IMPORT
) -> list[ReportedEntry]:
    """Return the next records of a source by ID."""
    r = t.record.c
    where = (
        r.source_id == source_id,
        r.connection_type == connection_type,
        r.deleted_at.is_(None),
        r.reported.is_not(None),
        r.id > after,
    )
    statement = select(r.id, r.native_id, r.reported).where(*where).order_by(r.id).limit(most)
    return [ReportedEntry(*row) for row in connection.execute(statement)]


_MAKE = PreparedStatement(insert(t.record))

_FREE_NAME = (
    update(t.record).where(t.record.c.id == bindparam("record")).values(user_name_key=bindparam("record"))
)

_WRITE = (
    update(t.record)
    .where(t.record.c.id == bindparam("record"), t.record.c.version == bindparam("seen"))
    .values(
        user_name_key=bindparam("name"),
        external_id=bindparam("external"),
        email_key=bindparam("email"),
        more_emails=bindparam("emails"),
        data=bindparam("content", type_=t.record.c.data.type),
        version=t.record.c.version + 1,
        modified_at=bindparam("at"),
        deleted_at=None,
        reference=bindparam("by"),
        digest=bindparam("mark"),
        reported=bindparam("words", type_=t.record.c.reported.type),
    )
)

_TOUCH = (
    update(t.record)
    .where(t.record.c.id == bindparam("record"))
    .values(
        reference=bindparam("by"),
        digest=bindparam("mark"),
        reported=bindparam("words", type_=t.record.c.reported.type),
    )
)

_LEAVE = (
    update(t.record)
    .where(
        t.record.c.id == bindparam("record"),
        t.record.c.version == bindparam("seen"),
        t.record.c.deleted_at.is_(None),
    )
    .values(deleted_at=bindparam("at"), modified_at=bindparam("at"), version=t.record.c.version + 1)
)


def make(
    connection: Connection,
    source_id: str,
    records: Sequence[NewRecord],
    now: Instant,
    connection_type: str = IMPORT,
) -> None:
    """Write new records."""
    if not records:
        return
    made = []
    for each in records:
        name, external, email, emails = found_by(each.data, each.found)
        made.append(
            {
                "id": each.id,
                "source_id": source_id,
                "connection_type": connection_type,
                "user_id": each.user_id,
                "user_name_key": name,
                "external_id": external,
                "email_key": email,
                "more_emails": emails,
                "data": each.data,
                "version": 1,
                "created_at": now,
                "modified_at": now,
                "native_id": each.native_id,
                "reference": each.reference,
                "digest": each.digest,
                "reported": each.reported,
            }
        )
    _MAKE.change_many(connection, made)


def write(connection: Connection, records: Sequence[NewRecord], renamed: Sequence[str], now: Instant) -> bool:
    """Replace what a source reported about users; False if one changed since it was read.

    Args:
        renamed: IDs of records with a new user name. Names may move among them, so all are cleared first.
    """
    if not records:
        return True
    if renamed:
        connection.execute(_FREE_NAME, [{"record": each} for each in renamed])
    given = []
    for each in records:
        name, external, email, emails = found_by(each.data, each.found)
        given.append(
            {
                "record": each.id,
                "seen": each.version,
                "name": name,
                "external": external,
                "email": email,
                "emails": emails,
                "content": each.data,
                "at": now,
                "by": each.reference,
                "mark": each.digest,
                "words": each.reported,
            }
        )
    return connection.execute(_WRITE, given).rowcount == len(given)


def touch(connection: Connection, records: Sequence[NewRecord]) -> None:
    """Store a source's report that changes nothing else."""
    if records:
        connection.execute(
            _TOUCH,
            [
                {"record": each.id, "by": each.reference, "mark": each.digest, "words": each.reported}
                for each in records
            ],
        )


def leave(connection: Connection, seen: Mapping[str, int], now: Instant) -> bool:
    """Mark records as deleted; False if one changed since it was read."""
    return connection.execute(
        _LEAVE, [{"record": own_id, "seen": version, "at": now} for own_id, version in seen.items()]
    ).rowcount == len(seen)


def forget_digests(connection: Connection, record_ids: Sequence[str], but_not: Sequence[str] = ()) -> None:
    """Have the groups of some records compared in the next run, whatever it reports; `but_not` are IDs of
    groups.
    """
    m = t.membership.c
    kept = set(but_not)
    found: set[str] = set()
    for some in chunks(record_ids):
        found.update(
            connection.execute(
                select(m.group_id).where(
                    m.record_id.in_(some), m.until_at.is_(None), m.record_id.is_not(None)
                )
            ).scalars()
        )
    for some in chunks(sorted(found - kept)):
        connection.execute(update(t.group).where(t.group.c.id.in_(some)).values(digest=None))


def chunks(values: Sequence[Item]) -> Iterable[list[Item]]:
    """Yield values in lists short enough for one statement."""
    for start in range(0, len(values), CHUNK):
        yield list(values[start : start + CHUNK])


@dataclass(frozen=True)
class ImportedUser:
    """The record of a user in a source's imports, with the ID that the source gives it."""

    id: str
    native_id: str


def record_of_user(connection: Connection, source_id: str, user_id: str) -> ImportedUser | None:
    """Return the record of a user that a source's imports report, or None."""
    r = t.record.c
    statement = select(r.id, r.native_id).where(
        r.source_id == source_id, r.connection_type == IMPORT, r.user_id == user_id, r.deleted_at.is_(None)
    )
    row = connection.execute(statement).first()
    return None if row is None else ImportedUser(*row)


@dataclass(frozen=True)
class ReportedUser:
    """A user with the entry that a source reported."""

    user: UserRef
    reported: dict[str, Any]


def first_reported(connection: Connection, source_id: str, user_id: str | None = None) -> ReportedUser | None:
    """Return the first user of a source's imports, or one user, with the reported entry; or None."""
    r, u = t.record.c, t.user.c
    statement = select(u.id, u.display_name, u.user_name, r.reported).join(t.record, r.user_id == u.id)
    statement = statement.where(r.source_id == source_id, r.reported.is_not(None), r.deleted_at.is_(None))
    if user_id is not None:
        statement = statement.where(u.id == user_id)
    row = connection.execute(statement.order_by(r.id).limit(1)).first()
    return None if row is None else ReportedUser(UserRef(*row[:3]), row.reported)
