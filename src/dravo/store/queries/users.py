"""Reads users and their source records as the API shows them."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Collection, Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection, and_, func, or_, select

from dravo.core.identity.names import fold, user_name_key
from dravo.core.identity.records import SIGN_IN
from dravo.core.instants import Instant
from dravo.store import tables as t
from dravo.store.pagination import Page, PageRequest, page
from dravo.store.queries.references import KeyAndLabel, UserRef, user_ref
from dravo.store.queries.search import user_has
from dravo.store.sign_in import former_records

NAMES_AT_ONCE = 200


@dataclass(frozen=True)
class User:
    """A row of the table of users.

    Attributes:
        user_name_key, display_name_key, email_key: the values in the form in which they are compared.
        attributes: the merged SCIM attributes.
        value_sources: the source of each value, by attribute.
        next_change_at: when an assignment or a mark starts or ends next, or None.
        mark, mark_from_at, mark_note, marked_by, marked_at: the mark of an operator, or None.
        invited_at: of a user who has not accepted the invitation yet.
    """

    id: str
    user_name: str
    user_name_key: str
    display_name: str
    display_name_key: str
    email: str | None
    email_key: str | None
    attributes: dict[str, Any]
    value_sources: dict[str, Any]
    active: bool
    revision: int
    created_at: Instant
    modified_at: Instant
    inactive_since: Instant | None
    left_at: Instant | None
    next_change_at: Instant | None
    mark: str | None
    mark_from_at: Instant | None
    mark_note: str | None
    marked_by: str | None
    marked_at: Instant | None
    invited_at: Instant | None


def user_status(row: Any) -> str:
    """Return "active", "inactive", "pending" or "left"."""
    if row.left_at:
        return "left"
    return "active" if row.active else "pending" if row.invited_at else "inactive"


@dataclass(frozen=True)
class UserLine(UserRef):
    """A user as lists show it.

    Attributes:
        status: "active", "inactive", "pending" or "left".
        since: the time since when the user has this status.
    """

    email: str | None
    status: str
    since: Instant
    modified_at: Instant


def user_line(row: Any) -> UserLine:
    """Return a user as lists show it."""
    return UserLine(
        id=row.id,
        display_name=row.display_name,
        user_name=row.user_name,
        email=row.email,
        status=user_status(row),
        since=row.left_at or row.inactive_since or row.created_at,
        modified_at=row.modified_at,
    )


def users(
    connection: Connection,
    page_request: PageRequest,
    words: str | None,
    status: str | None,
    *,
    emails: bool = True,
) -> Page[UserLine]:
    """Return a page of users by name; `words` are searched in name and user name, and with `emails` in the
    email.
    """
    u = t.user.c
    statement = select(
        u.id,
        u.user_name,
        u.display_name,
        u.email,
        u.active,
        u.left_at,
        u.inactive_since,
        u.created_at,
        u.modified_at,
        u.invited_at,
    )
    # With words, the planner must use the index of names. COALESCE keeps it from the index of statuses.
    active = func.coalesce(u.active, False) if words else u.active
    conditions = {
        "active": and_(active.is_(True), u.left_at.is_(None)),
        "inactive": and_(active.is_(False), u.left_at.is_(None), u.invited_at.is_(None)),
        "pending": and_(active.is_(False), u.left_at.is_(None), u.invited_at.is_not(None)),
        "left": and_(active.is_(False), u.left_at.is_not(None)),
    }
    if words:
        statement = statement.where(user_has(words, emails=emails))
    if status in conditions:
        statement = statement.where(conditions[status])
    return page(connection, statement, [u.display_name_key, u.id], page_request, user_line)


def users_by_id(connection: Connection, user_ids: list[str]) -> dict[str, UserRef]:
    """Return some users in short, by id."""
    u = t.user.c
    rows = connection.execute(select(u.id, u.display_name, u.user_name).where(u.id.in_(user_ids)))
    return {row.id: user_ref(row) for row in rows}


def users_named(
    connection: Connection, names: Sequence[str], *, by_attributes: bool = True
) -> dict[str, list[User]]:
    """Return for each name the matching users, present ones first.

    Args:
        names: IDs or user names; with `by_attributes` also emails and external IDs.
    """
    u, r = t.user.c, t.record.c
    found: dict[str, list[User]] = {name: [] for name in names}
    wanted = list(found)
    for start in range(0, len(wanted), NAMES_AT_ONCE):
        some = wanted[start : start + NAMES_AT_ONCE]
        keys = [fold(name) for name in some]
        name_keys = [user_name_key(name) for name in some]
        others = select(r.external_id, r.user_id).where(r.external_id.in_(some), r.deleted_at.is_(None))
        external = connection.execute(others).all() if by_attributes else []
        users = {user_id for _, user_id in external}
        by_email = [u.email_key.in_(keys)] if by_attributes else []
        statement = select(t.user).where(
            or_(u.id.in_({*some, *users}), u.user_name_key.in_(name_keys), *by_email)
        )
        ordered = statement.order_by(u.left_at.is_not(None), u.id)
        rows = [User(*row) for row in connection.execute(ordered)]
        by: defaultdict[str, set[str]] = defaultdict(set)
        for name, user_id in external:
            by[name].add(user_id)
        for name, key, name_key in zip(some, keys, name_keys, strict=True):
            found[name] = [
                row
                for row in rows
                if row.id == name
                or row.user_name_key == name_key
                or (by_attributes and row.email_key == key)
                or row.id in by[name]
            ]
    return found


@dataclass(frozen=True)
class MergedValues:
    """The merged attributes of a user with their sources, and whether the user is active or has left."""

    attributes: dict[str, Any]
    value_sources: dict[str, Any]
    active: bool
    gone: bool


def merged_values(connection: Connection, user_ids: Sequence[str]) -> dict[str, MergedValues]:
    """Return the merged values of some users by ID."""
    if not user_ids:
        return {}
    u = t.user.c
    statement = select(u.id, u.attributes, u.value_sources, u.active, u.left_at).where(u.id.in_(user_ids))
    return {
        user_id: MergedValues(attributes, sources, active, left_at is not None)
        for user_id, attributes, sources, active, left_at in connection.execute(statement)
    }


@dataclass(frozen=True)
class UserRecord:
    """A source record of a user.

    Attributes:
        data: its SCIM User, as the source reported it.
        left_out: why it does not count, such as "handed_over"; None for one that counts.
        waiting: what waits until its source is enabled, or None.
        idle: whether it counts as inactive, because the user has not signed in for long.
    """

    id: str
    source: KeyAndLabel
    connection_type: str
    external_id: str | None
    user_name: str | None
    active: bool
    created_at: Instant
    modified_at: Instant
    deleted_at: Instant | None
    data: dict[str, Any]
    left_out: str | None
    waiting: str | None
    idle: bool


def records_of(connection: Connection, user_id: str) -> list[UserRecord]:
    """Return the records of a user, the oldest first."""
    r, s = t.record.c, t.source.c
    statement = (
        select(
            r.id,
            r.connection_type,
            r.external_id,
            r.native_id,
            r.data,
            r.created_at,
            r.modified_at,
            r.deleted_at,
            r.left_out,
            r.waiting,
            r.in_use,
            s.key,
            s.label,
        )
        .join(t.source, s.id == r.source_id)
        .where(r.user_id == user_id)
        .order_by(r.id)
    )
    return [
        UserRecord(
            id=row.id,
            source=KeyAndLabel(row.key, row.label),
            connection_type=row.connection_type,
            external_id=None if former_records.is_former(row.native_id) else row.native_id or row.external_id,
            user_name=row.data.get("userName"),
            active=_counts_as_active(row),
            created_at=row.created_at,
            modified_at=row.modified_at,
            deleted_at=row.deleted_at,
            data=row.data,
            left_out=row.left_out,
            waiting=row.waiting,
            idle=row.connection_type == SIGN_IN and row.in_use is not None,
        )
        for row in connection.execute(statement)
    ]


def _counts_as_active(row: Any) -> bool:
    """Whether a record reports its user as active, with what is in use of it."""
    user = row.data if row.in_use is None else row.in_use
    deleted = row.deleted_at is not None and row.waiting is None
    return not deleted and row.left_out is None and user.get("active", True) is not False


def by_ids(connection: Connection, user_ids: Sequence[str]) -> dict[str, User]:
    """Return some users by ID."""
    statement = select(t.user).where(t.user.c.id.in_(user_ids))
    return {row.id: User(*row) for row in connection.execute(statement)}


def user_name_keys(connection: Connection, user_ids: Collection[str]) -> set[str]:
    """Return the user names of some users, in the form in which they are compared."""
    u = t.user.c
    return set(connection.execute(select(u.user_name_key).where(u.id.in_(user_ids))).scalars())


def other_with_name(
    connection: Connection, name_key: str, email_key: str | None, own_id: str
) -> UserRef | None:
    """Return another user who has not left, with the same user name or email address; or None."""
    u = t.user.c
    same = [u.user_name_key == name_key, *([u.email_key == email_key] if email_key else [])]
    statement = select(u.id, u.display_name, u.user_name).where(
        or_(*same), u.left_at.is_(None), u.id != own_id
    )
    row = connection.execute(statement.limit(1)).first()
    return None if row is None else user_ref(row)
