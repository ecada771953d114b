"""What was read of a source, for many users and groups at a time: what is known of them, whom they could
mean, and writing.
"""

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
# Users with a record that waits for a decision: they are not candidates for matching.
_UNDECIDED = exists().where(
    t.record.c.user_id == t.user.c.id, t.record.c.gone_at.is_(None), t.record.c.undecided.is_(True)
)


@dataclass(frozen=True, slots=True)
class Known:
    """What is known of a user, or of a group, by the source's own id."""

    id: str
    digest: str | None
    gone: bool


@dataclass(frozen=True)
class NewRecord:
    """A record that is written for the first time, or again in place of what was there (`version` seen)."""

    id: str
    user_id: str
    native_id: str
    reference: str
    digest: str
    said: Mapping[str, Any]
    data: Mapping[str, Any]
    version: int = 0
    found: Searchable | None = None


def known_users(
    connection: Connection,
    source_id: str,
    native_ids: Sequence[str] | None = None,
    connection_type: str = IMPORT,
) -> dict[str, Known]:
    """Return all users whom a source ever said something of, by its own ids; of some ids only, if they are
    given.
    """
    return _known(connection, t.record, source_id, native_ids, connection_type)


def known_groups(
    connection: Connection,
    source_id: str,
    native_ids: Sequence[str] | None = None,
    connection_type: str = IMPORT,
) -> dict[str, Known]:
    """Return every group that a source ever had, by its own ids; of some ids only, if they are given."""
    return _known(connection, t.group, source_id, native_ids, connection_type)


def _known(
    connection: Connection, table: Any, source_id: str, native_ids: Sequence[str] | None, connection_type: str
) -> dict[str, Known]:
    c = table.c
    statement = select(c.native_id, c.id, c.digest, c.gone_at).where(
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
    """Return how many users a source has, as far as is known."""
    r = t.record.c
    where = (r.source_id == source_id, r.connection_type == connection_type, r.gone_at.is_(None))
    return int(connection.execute(select(func.count()).select_from(t.record).where(*where)).scalar_one())


def rows(connection: Connection, record_ids: Sequence[str]) -> dict[str, Any]:
    """Return records by id."""
    r = t.record.c
    columns = (r.id, r.user_id, r.version, r.data, r.native_id, r.reference, r.user_name_key, r.gone_at)
    return {
        row.id: row
        for some in _chunks(record_ids)
        for row in connection.execute(select(*columns).where(r.id.in_(some)))
    }


def said(
    connection: Connection, source_id: str, after: str = "", most: int = CHUNK, connection_type: str = IMPORT
) -> list[Any]:
    """Return the next records of a source by id, with what it said: (id, native_id, said)."""
    r = t.record.c
    where = (
        r.source_id == source_id,
        r.connection_type == connection_type,
        r.gone_at.is_(None),
        r.said.is_not(None),
        r.id > after,
    )
    return list(
        connection.execute(select(r.id, r.native_id, r.said).where(*where).order_by(r.id).limit(most))
    )


def locators(
    connection: Connection, source_id: str, wanted: Sequence[str] | None = None, connection_type: str = IMPORT
) -> tuple[dict[str, str], dict[str, str]]:
    """Return by what groups name their members the ids of the records, and of the groups, that are present.

    Args:
        wanted: which are asked for; None for all.
    """
    found: list[dict[str, str]] = []
    for table in (t.record, t.group):
        c = table.c
        statement = select(c.reference, c.id).where(
            c.source_id == source_id,
            c.connection_type == connection_type,
            c.gone_at.is_(None),
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
    """Return the users whom records could mean, by "name:" or "email:" and the folded value that they
    have.
    """
    u = t.user.c
    columns = (u.id, u.user_name_key, u.email, u.email_key, u.gone_at)
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
            row.gone_at is not None,
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
    """Return of each user whether their user name, and their email address, was said by a user whose word
    counts for matching.

    That is the asking source itself, an operator, or a source that owns the domain of the address; of a user
    name without a domain, one that owns the domain of the address which it gives with the name.
    """
    r = t.record.c
    owned = domains(connection)
    found = dict.fromkeys(users, (False, False))
    columns = (r.user_id, r.source_id, r.connection_type, r.user_name_key, r.email_key, r.more_emails)
    for some in _chunks(list(users)):
        for row in connection.execute(select(*columns).where(r.user_id.in_(some), r.gone_at.is_(None))):
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
    """Return the ids of other sources' users with a user name or an email, and of all users with a name for
    which it could be mistaken.

    Args:
        source_id: the source whose own users do not count.
        name, email, lookalike: as they are compared; None for no email, and for a name that looks like no
        other.
        but: the id of a user who does not count.
    """
    u, r = t.user.c, t.record.c
    known = exists().where(
        r.user_id == u.id, r.source_id != source_id, r.gone_at.is_(None), r.undecided.is_(False)
    )
    found: set[str] = set()
    for column, value in ((u.user_name_key, name), (u.email_key, email)):
        if value:
            found.update(
                connection.execute(select(u.id).where(column == value, u.gone_at.is_(None), known)).scalars()
            )
    if lookalike:
        found.update(
            connection.execute(
                select(u.id).where(u.user_name_key == lookalike, u.gone_at.is_(None), ~_UNDECIDED)
            ).scalars()
        )
    return frozenset(found - {but})


def undecided_users(connection: Connection, user_ids: Sequence[str]) -> frozenset[str]:
    """Return those of some users for whom an operator has yet to decide which user a SCIM record belongs
    to.
    """
    u = t.user.c
    return frozenset(connection.execute(select(u.id).where(u.id.in_(user_ids), _UNDECIDED)).scalars())


def _here(
    connection: Connection, source_id: str, users: Mapping[str, Any], requested_by: str
) -> dict[str, bool]:
    """Return of which users a source says something already: by this connection type, or by another one
    under the same user name.
    """
    r = t.record.c
    found: dict[str, bool] = {}
    for some in _chunks(list(users)):
        where = (r.source_id == source_id, r.user_id.in_(some), r.gone_at.is_(None))
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
            r.gone_at.is_(None),
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
        gone_at=None,
        reference=bindparam("by"),
        digest=bindparam("mark"),
        said=bindparam("words", type_=t.record.c.said.type),
    )
)
_TOUCH = (
    update(t.record)
    .where(t.record.c.id == bindparam("record"))
    .values(
        reference=bindparam("by"),
        digest=bindparam("mark"),
        said=bindparam("words", type_=t.record.c.said.type),
    )
)
_LEAVE = (
    update(t.record)
    .where(
        t.record.c.id == bindparam("record"),
        t.record.c.version == bindparam("seen"),
        t.record.c.gone_at.is_(None),
    )
    .values(gone_at=bindparam("at"), modified_at=bindparam("at"), version=t.record.c.version + 1)
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
                "said": each.said,
            }
        )
    _MAKE.change_many(connection, made)


def write(connection: Connection, records: Sequence[NewRecord], renamed: Sequence[str], now: Instant) -> bool:
    """Write what a source now says in place of what it said; False if one is no longer at the version seen.

    Args:
        renamed: ids of those whose user name changes: names may change hands among them, so that all are
            given up first.
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
                "words": each.said,
            }
        )
    return connection.execute(_WRITE, given).rowcount == len(given)


def touch(connection: Connection, records: Sequence[NewRecord]) -> None:
    """Write down what a source said where it comes to the same as before."""
    if records:
        connection.execute(
            _TOUCH,
            [
                {"record": each.id, "by": each.reference, "mark": each.digest, "words": each.said}
                for each in records
            ],
        )


def leave(connection: Connection, seen: Mapping[str, int], now: Instant) -> bool:
    """Write down that records, each at the version seen, are gone; False if one has changed meanwhile."""
    return connection.execute(
        _LEAVE, [{"record": own_id, "seen": version, "at": now} for own_id, version in seen.items()]
    ).rowcount == len(seen)


def forget_digests(connection: Connection, record_ids: Sequence[str], but_not: Sequence[str] = ()) -> None:
    """Have the groups that list some records be looked at again at the next reading, whatever they say then;
    `but_not` are ids of groups.
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
    """Return what was decided, and is not carried out yet, by native id."""
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
    """Write down conflicts: each {"native_id", "kind", "name", "message", "entry", "candidates"}; one that
    is open is only seen again.
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
    """Open conflicts about these are over: what they were about came in; those that were decided too, unless
    it was left out.
    """
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
        gone_at=None,
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
    """Write what groups, (id, entry) each, are called and named by now; one that was gone is back."""
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
    """Write down what tells groups from what they were before."""
    if digests:
        connection.execute(_DIGEST, [{"group": own_id, "mark": mark} for own_id, mark in digests])


def names_of_groups(
    connection: Connection, source_id: str, connection_type: str = IMPORT
) -> dict[str, tuple[str, str | None]]:
    """Return (name, reference) of a source's present groups by id."""
    g = t.group.c
    where = (g.source_id == source_id, g.connection_type == connection_type, g.gone_at.is_(None))
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
    """Return the name by which a line tells of a user."""
    return searchable(data).display_name
