"""Records and groups of imports, many at a time: what is known, candidates for matching, and writing."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection, bindparam, exists, func, insert, or_, select, update

from dravo.core.identity.matching import Candidate
from dravo.core.identity.names import fold, user_name_key
from dravo.core.identity.records import LOCAL, Searchable, searchable
from dravo.core.instants import Instant
from dravo.store import tables as t
from dravo.store.ids import new_id
from dravo.store.prepared_statements import PreparedStatement
from dravo.store.records import found_by

IMPORT = "import"
CHUNK = 500
# Users with a record in an open conflict; they are not candidates for matching.
_UNDECIDED = exists().where(
    t.record.c.user_id == t.user.c.id, t.record.c.deleted_at.is_(None), t.record.c.undecided.is_(True)
)


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
    return _known(connection, t.record, source_id, native_ids, connection_type)


def known_groups(
    connection: Connection,
    source_id: str,
    native_ids: Sequence[str] | None = None,
    connection_type: str = IMPORT,
) -> dict[str, Known]:
    """Return all groups that a source ever reported, by native ID; or those with some IDs."""
    return _known(connection, t.group, source_id, native_ids, connection_type)


def _known(
    connection: Connection, table: Any, source_id: str, native_ids: Sequence[str] | None, connection_type: str
) -> dict[str, Known]:
    c = table.c
    statement = select(c.native_id, c.id, c.digest, c.deleted_at).where(
        c.source_id == source_id, c.connection_type == connection_type, c.native_id.is_not(None)
    )
    asked = (
        [statement]
        if native_ids is None
        else [statement.where(c.native_id.in_(some)) for some in _chunks(native_ids)]
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


def rows(connection: Connection, record_ids: Sequence[str]) -> dict[str, Any]:
    """Return records by id."""
    r = t.record.c
    columns = (r.id, r.user_id, r.version, r.data, r.native_id, r.reference, r.user_name_key, r.deleted_at)
    return {
        row.id: row
        for some in _chunks(record_ids)
        for row in connection.execute(select(*columns).where(r.id.in_(some)))
    }


def reported(
    connection: Connection, source_id: str, after: str = "", most: int = CHUNK, connection_type: str = IMPORT
) -> list[Any]:
    """Return the next records of a source by ID: (ID, native ID, reported entry)."""
    r = t.record.c
    where = (
        r.source_id == source_id,
        r.connection_type == connection_type,
        r.deleted_at.is_(None),
        r.reported.is_not(None),
        r.id > after,
    )
    return list(
        connection.execute(select(r.id, r.native_id, r.reported).where(*where).order_by(r.id).limit(most))
    )


def locators(
    connection: Connection, source_id: str, wanted: Sequence[str] | None = None, connection_type: str = IMPORT
) -> tuple[dict[str, str], dict[str, str]]:
    """Return the IDs of present records and groups, by the locators that groups use for members.

    Args:
        wanted: the locators to look up; None for all.
    """
    found: list[dict[str, str]] = []
    for table in (t.record, t.group):
        c = table.c
        statement = select(c.reference, c.id).where(
            c.source_id == source_id,
            c.connection_type == connection_type,
            c.deleted_at.is_(None),
            c.reference.is_not(None),
        )
        asked = (
            [statement]
            if wanted is None
            else [statement.where(c.reference.in_(some)) for some in _chunks(wanted)]
        )
        found.append({row[0]: row[1] for each in asked for row in connection.execute(each)})
    return found[0], found[1]


def candidates(
    connection: Connection,
    source_id: str,
    names: Iterable[str],
    emails: Iterable[str],
    connection_type: str = IMPORT,
) -> dict[str, list[Candidate]]:
    """Return the users to whom records could belong, by "name:" or "email:" and the folded value."""
    u = t.user.c
    columns = (u.id, u.user_name_key, u.email, u.email_key, u.left_at)
    users: dict[str, Any] = {}
    for column, values in ((u.user_name_key, names), (u.email_key, emails)):
        for some in _chunks(sorted(values)):
            users.update(
                {
                    row.id: row
                    for row in connection.execute(select(*columns).where(column.in_(some), ~_UNDECIDED))
                }
            )
    if not users:
        return {}
    here = _here(connection, source_id, users, connection_type)
    counts = _what_counts(connection, source_id, users)
    operators = {
        user_name_key(name)
        for (name,) in connection.execute(select(t.operator.c.name).where(t.operator.c.disabled_at.is_(None)))
    }
    found: dict[str, list[Candidate]] = {}
    for row in users.values():
        operator = row.user_name_key in operators or (row.email_key or "") in operators
        each = Candidate(
            row.id,
            row.user_name_key,
            row.email,
            row.left_at is not None,
            operator,
            here.get(row.id),
            *counts[row.id],
        )
        found.setdefault(f"name:{row.user_name_key}", []).append(each)
        if row.email_key:
            found.setdefault(f"email:{row.email_key}", []).append(each)
    return found


def _what_counts(
    connection: Connection, source_id: str, users: Mapping[str, Any]
) -> dict[str, tuple[bool, bool]]:
    """Return for each user whether the user name and the email address are good for matching.

    The asking source itself, an operator, or a source that owns the domain of the address must have reported
    the value. For a user name without a domain, the domain of the address counts that is reported with it.
    """
    r = t.record.c
    owned = domains(connection)
    found = dict.fromkeys(users, (False, False))
    columns = (r.user_id, r.source_id, r.connection_type, r.user_name_key, r.email_key, r.more_emails)
    for some in _chunks(list(users)):
        for row in connection.execute(select(*columns).where(r.user_id.in_(some), r.deleted_at.is_(None))):
            user = users[row.user_id]
            trusted = row.source_id == source_id or row.connection_type == LOCAL
            theirs = owned.get(row.source_id, frozenset())
            of_name = row.user_name_key if "@" in row.user_name_key else row.email_key or ""
            says_email = user.email_key is not None and user.email_key in (
                row.email_key,
                *(row.more_emails or "").splitlines(),
            )
            name = row.user_name_key == user.user_name_key and (
                trusted or of_name.rpartition("@")[2] in theirs
            )
            email = says_email and (trusted or user.email_key.rpartition("@")[2] in theirs)
            found[row.user_id] = found[row.user_id][0] or name, found[row.user_id][1] or email
    return found


def domains(connection: Connection) -> dict[str, frozenset[str]]:
    """Return by source the email domains that it owns, folded: its own, and those of its policies of reading
    and of signing in.
    """
    s = t.source.c
    statement = select(s.id, s.domains, s.policy, t.source_sign_in.c.policy.label("of_sign_in"))
    rows = connection.execute(statement.outerjoin(t.source_sign_in, t.source_sign_in.c.source_id == s.id))
    return {
        row.id: frozenset(
            (
                *(row.domains or ()),
                *((row.policy or {}).get("domains") or ()),
                *((row.of_sign_in or {}).get("domains") or ()),
            )
        )
        for row in rows
    }


def who_has(connection: Connection, names: Iterable[str], emails: Iterable[str]) -> frozenset[str]:
    """Return the ids of everyone who has one of some folded user names or email addresses."""
    u = t.user.c
    found: set[str] = set()
    for column, values in ((u.user_name_key, names), (u.email_key, emails)):
        for some in _chunks(sorted(values)):
            found.update(connection.execute(select(u.id).where(column.in_(some), ~_UNDECIDED)).scalars())
    return frozenset(found)


def elsewhere(
    connection: Connection,
    source_id: str,
    name: str,
    email: str | None,
    lookalike: str | None,
    but: str | None = None,
) -> frozenset[str]:
    """Return the IDs of other sources' users with a user name or email, and of all users with a name that
    looks the same.

    Args:
        connection: a reading connection.
        source_id: the source whose own users do not count.
        name, email, lookalike: as they are compared; None for no email, and for a name that looks like no
            other.
        but: the ID of a user who does not count.
    """
    u, r = t.user.c, t.record.c
    known = exists().where(
        r.user_id == u.id, r.source_id != source_id, r.deleted_at.is_(None), r.undecided.is_(False)
    )
    found: set[str] = set()
    for column, value in ((u.user_name_key, name), (u.email_key, email)):
        if value:
            found.update(
                connection.execute(select(u.id).where(column == value, u.left_at.is_(None), known)).scalars()
            )
    if lookalike:
        found.update(
            connection.execute(
                select(u.id).where(u.user_name_key == lookalike, u.left_at.is_(None), ~_UNDECIDED)
            ).scalars()
        )
    return frozenset(found - {but})


def undecided_users(connection: Connection, user_ids: Sequence[str]) -> frozenset[str]:
    """Return users with an open conflict about which user a SCIM record belongs to."""
    u = t.user.c
    return frozenset(connection.execute(select(u.id).where(u.id.in_(user_ids), _UNDECIDED)).scalars())


def _here(
    connection: Connection, source_id: str, users: Mapping[str, Any], requested_by: str
) -> dict[str, bool]:
    """Return the users of whom a source has a record: by this connection type, or by another one with the
    same user name.
    """
    r = t.record.c
    found: dict[str, bool] = {}
    for some in _chunks(list(users)):
        where = (r.source_id == source_id, r.user_id.in_(some), r.deleted_at.is_(None))
        for user_id, connection_type, key in connection.execute(
            select(r.user_id, r.connection_type, r.user_name_key).where(*where)
        ):
            if connection_type == requested_by:
                found[user_id] = True
            elif key == users[user_id].user_name_key:
                found.setdefault(user_id, False)
    return found


def holders(
    connection: Connection, source_id: str, names: Iterable[str], connection_type: str = IMPORT
) -> dict[str, str]:
    """Return by folded user name the record of a source, by this connection type, that has it now."""
    r = t.record.c
    found: dict[str, str] = {}
    for some in _chunks(sorted(names)):
        where = (
            r.source_id == source_id,
            r.connection_type == connection_type,
            r.deleted_at.is_(None),
            r.user_name_key.in_(some),
        )
        found.update(
            {row[0]: row[1] for row in connection.execute(select(r.user_name_key, r.id).where(*where))}
        )
    return found


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
    for some in _chunks(record_ids):
        found.update(
            connection.execute(
                select(m.group_id).where(
                    m.record_id.in_(some), m.until_at.is_(None), m.record_id.is_not(None)
                )
            ).scalars()
        )
    for some in _chunks(sorted(found - kept)):
        connection.execute(update(t.group).where(t.group.c.id.in_(some)).values(digest=None))


# Conflicts

OPEN, DECIDED, OVER = "open", "decided", "over"


def decisions(
    connection: Connection, source_id: str, subject: str, native_ids: Sequence[str]
) -> dict[str, Any]:
    """Return decisions that are not applied yet, by native ID."""
    c = t.conflict.c
    found: dict[str, Any] = {}
    for some in _chunks(native_ids):
        where = (c.source_id == source_id, c.subject == subject, c.native_id.in_(some), c.status == DECIDED)
        found.update({row.native_id: row for row in connection.execute(select(t.conflict).where(*where))})
    return found


def note_conflicts(
    connection: Connection,
    source_id: str,
    subject: str,
    found: Sequence[Mapping[str, Any]],
    now: Instant,
    connection_type: str = IMPORT,
) -> None:
    """Write conflicts: each {"native_id", "kind", "name", "message", "entry", "candidates"}; an open one gets
    a new date only.
    """
    c = t.conflict.c
    for each in found:
        where = (
            c.source_id == source_id,
            c.subject == subject,
            c.native_id == each["native_id"],
            c.status != OVER,
        )
        values = {**each, "last_seen_at": now}
        if connection.execute(update(t.conflict).where(*where).values(**values)).rowcount == 0:
            row = {
                "id": new_id(),
                "source_id": source_id,
                "connection_type": connection_type,
                "subject": subject,
                "status": OPEN,
                "first_seen_at": now,
            }
            connection.execute(insert(t.conflict).values(**row, **values))


def end_conflicts(
    connection: Connection,
    source_id: str,
    subject: str,
    native_ids: Sequence[str],
    *,
    decided_only: bool = False,
) -> None:
    """Close open conflicts whose record was ingested, and decided ones unless the decision was to ignore."""
    c = t.conflict.c
    over = c.decision != "ignore" if decided_only else or_(c.status == OPEN, c.decision != "ignore")
    for some in _chunks(native_ids):
        where = (c.source_id == source_id, c.subject == subject, c.native_id.in_(some), over)
        connection.execute(update(t.conflict).where(*where).values(status=OVER))


def with_conflicts(connection: Connection, source_id: str, subject: str) -> set[str]:
    """Return the native ids about which a conflict is open or was decided."""
    c = t.conflict.c
    where = (c.source_id == source_id, c.subject == subject, c.status != OVER)
    return set(connection.execute(select(c.native_id).where(*where)).scalars())


# Groups

_MAKE_GROUP = insert(t.group)
_NAME_GROUP = (
    update(t.group)
    .where(t.group.c.id == bindparam("group"))
    .values(
        display_name=bindparam("name"),
        display_name_key=bindparam("name_key"),
        data=bindparam("content", type_=t.group.c.data.type),
        reference=bindparam("by"),
        version=t.group.c.version + 1,
        modified_at=bindparam("at"),
        deleted_at=None,
    )
)
_DIGEST = update(t.group).where(t.group.c.id == bindparam("group")).values(digest=bindparam("mark"))


def make_groups(
    connection: Connection,
    source_id: str,
    made: Sequence[tuple[str, Any]],
    now: Instant,
    connection_type: str = IMPORT,
) -> None:
    """Write new groups: (id, entry) each, as yet without members."""
    rows_made = [
        {
            "id": own_id,
            "source_id": source_id,
            "connection_type": connection_type,
            "display_name": each.name,
            "display_name_key": fold(each.name),
            "external_id": None,
            "data": {"displayName": each.name},
            "version": 1,
            "created_at": now,
            "modified_at": now,
            "native_id": each.native_id,
            "reference": each.reference,
            "digest": None,
        }
        for own_id, each in made
    ]
    if rows_made:
        connection.execute(_MAKE_GROUP, rows_made)


def name_groups(connection: Connection, named: Sequence[tuple[str, Any]], now: Instant) -> None:
    """Write the names and locators of groups, given as (ID, entry); a deleted group exists again."""
    given = [
        {
            "group": own_id,
            "name": each.name,
            "name_key": fold(each.name),
            "content": {"displayName": each.name},
            "by": each.reference,
            "at": now,
        }
        for own_id, each in named
    ]
    if given:
        connection.execute(_NAME_GROUP, given)


def note_digests(connection: Connection, digests: Sequence[tuple[str, str | None]]) -> None:
    """Store the digests of groups."""
    if digests:
        connection.execute(_DIGEST, [{"group": own_id, "mark": mark} for own_id, mark in digests])


def names_of_groups(
    connection: Connection, source_id: str, connection_type: str = IMPORT
) -> dict[str, tuple[str, str | None]]:
    """Return (name, reference) of a source's present groups by id."""
    g = t.group.c
    where = (g.source_id == source_id, g.connection_type == connection_type, g.deleted_at.is_(None))
    return {
        own_id: (name, reference)
        for own_id, name, reference in connection.execute(
            select(g.id, g.display_name, g.reference).where(*where)
        )
    }


def _chunks(values: Sequence[Any]) -> Iterable[list[Any]]:
    for start in range(0, len(values), CHUNK):
        yield list(values[start : start + CHUNK])


def shown_name(data: Mapping[str, Any]) -> str:
    """Return the name of a user for run entries."""
    return searchable(data).display_name


def number_of_open_conflicts(connection: Connection, source_id: str) -> int:
    """Return how many conflicts of a source wait for a decision."""
    c = t.conflict.c
    open_ones = select(func.count()).select_from(t.conflict).where(c.source_id == source_id, c.status == OPEN)
    return int(connection.execute(open_ones).scalar_one())


@dataclass(frozen=True)
class ImportedGroup:
    """A group of an import: its ID here, its name, the source's ID, and how the source refers to it."""

    id: str
    display_name: str
    native_id: str
    reference: str | None


def groups_by_name(connection: Connection, source_id: str, limit: int) -> list[ImportedGroup]:
    """Return the groups that a source's imports reported, by name."""
    g = t.group.c
    statement = (
        select(g.id, g.display_name, g.native_id, g.reference)
        .where(g.source_id == source_id, g.connection_type == IMPORT, g.deleted_at.is_(None))
        .order_by(g.display_name_key)
        .limit(limit)
    )
    return [ImportedGroup(*row) for row in connection.execute(statement)]


@dataclass(frozen=True)
class ImportedUser:
    """The record of a user in a source's imports, with the ID that the source gives it."""

    id: str
    native_id: str


def record_of_user(connection: Connection, source_id: str, user_id: str) -> ImportedUser | None:
    """Return the record of a user whom a source's imports report, or None."""
    r = t.record.c
    statement = select(r.id, r.native_id).where(
        r.source_id == source_id, r.connection_type == IMPORT, r.user_id == user_id, r.deleted_at.is_(None)
    )
    row = connection.execute(statement).first()
    return None if row is None else ImportedUser(*row)
