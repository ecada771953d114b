"""Queries for matching: the users that records could belong to, and who has a user name or an email."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import Any

from sqlalchemy import Connection, exists, or_, select

from dravo.core.identity.matching import Candidate
from dravo.core.identity.names import user_name_key
from dravo.core.identity.records import IMPORT, INBOUND_SCIM, LOCAL
from dravo.store import tables as t
from dravo.store.imports.records import chunks
from dravo.store.sign_in import former_records

# Users with a record in an open conflict; they are not candidates for matching.
_UNDECIDED = exists().where(
    t.record.c.user_id == t.user.c.id, t.record.c.deleted_at.is_(None), t.record.c.undecided.is_(True)
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
            else [statement.where(c.reference.in_(some)) for some in chunks(wanted)]
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
    """Return the users that records could belong to, by "name:" or "email:" and the folded value."""
    u = t.user.c
    columns = (u.id, u.user_name_key, u.email, u.email_key, u.left_at)
    users: dict[str, Any] = {}
    for column, values in ((u.user_name_key, names), (u.email_key, emails)):
        for some in chunks(sorted(values)):
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
    for some in chunks(list(users)):
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
    statement = select(
        s.id, s.domains, s.policy, s.scim_policy, t.source_sign_in.c.policy.label("of_sign_in")
    )
    rows = connection.execute(statement.outerjoin(t.source_sign_in, t.source_sign_in.c.source_id == s.id))
    return {
        row.id: frozenset(
            (
                *(row.domains or ()),
                *((row.policy or {}).get("domains") or ()),
                *((row.scim_policy or {}).get("domains") or ()),
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
        for some in chunks(sorted(values)):
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
    """Return the IDs of users with a user name or email that another connection reports, and of all users
    with a name that looks the same.

    Args:
        connection: a reading connection.
        source_id: the source whose inbound SCIM asks; its own records do not count.
        name, email, lookalike: as they are compared; None for no email, and for a name that looks like no
            other.
        but: the ID of a user who does not count.
    """
    u, r = t.user.c, t.record.c
    known = exists().where(
        r.user_id == u.id,
        or_(r.source_id != source_id, r.connection_type != INBOUND_SCIM),
        r.deleted_at.is_(None),
        r.undecided.is_(False),
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
    """Return the users that have a record of a source: by this connection type, or by another one, or a
    former protocol, with the same user name.
    """
    r = t.record.c
    found: dict[str, bool] = {}
    for some in chunks(list(users)):
        where = (r.source_id == source_id, r.user_id.in_(some), r.deleted_at.is_(None))
        columns = (r.user_id, r.connection_type, r.user_name_key, r.native_id)
        for user_id, connection_type, key, native_id in connection.execute(select(*columns).where(*where)):
            if connection_type == requested_by and not former_records.is_former(native_id):
                found[user_id] = True
            elif former_records.user_name_key_of(key) == users[user_id].user_name_key:
                found.setdefault(user_id, False)
    return found


def holders(
    connection: Connection, source_id: str, names: Iterable[str], connection_type: str = IMPORT
) -> dict[str, str]:
    """Return by folded user name the record of a source, by this connection type, that has it now."""
    r = t.record.c
    found: dict[str, str] = {}
    for some in chunks(sorted(names)):
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
