"""Users as sign-ins know them: their records, groups and access."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection, or_, select, update

from dravo.core.identity.names import fold
from dravo.core.identity.records import SIGN_IN
from dravo.core.instants import Instant
from dravo.store import tables as t


@dataclass(frozen=True)
class SignInRecord:
    """The record of a user who signs in through a source."""

    id: str
    user_id: str
    source_id: str
    data: dict[str, Any]
    reported: dict[str, Any] | None
    created_at: Instant
    in_use: dict[str, Any] | None

    @property
    def idle(self) -> bool:
        """Whether the user is inactive for not having signed in for long; the next sign-in ends that."""
        return self.in_use is not None


def _records() -> Any:
    r = t.record.c
    columns = (r.id, r.user_id, r.source_id, r.data, r.reported, r.created_at, r.in_use)
    return select(*columns).where(r.connection_type == SIGN_IN)


def record_of_subject(connection: Connection, source_id: str, native_id: str) -> SignInRecord | None:
    """Return the record of a subject of a provider, also a deleted one, or None.

    Args:
        native_id: the issuer and the subject, as records name them.
    """
    r = t.record.c
    row = connection.execute(_records().where(r.source_id == source_id, r.native_id == native_id)).first()
    return None if row is None else SignInRecord(*row)


def note_sign_in(connection: Connection, record_id: str, now: Instant) -> None:
    """Note that a user signed in just now, with what the provider reported."""
    values = {"signed_in_at": now, "in_use": None}
    connection.execute(update(t.record).where(t.record.c.id == record_id).values(**values))


def has_signed_in_since(connection: Connection, source_id: str, since: Instant) -> bool:
    """Return whether anyone signed in through a source since an instant."""
    r = t.record.c
    where = (r.source_id == source_id, r.signed_in_at.is_not(None), r.signed_in_at >= since)
    return connection.execute(select(r.id).where(*where).limit(1)).first() is not None


@dataclass(frozen=True)
class IdleRecord:
    """A record of a user who has not signed in for long."""

    id: str
    user_id: str
    data: dict[str, Any]


def idle_records(connection: Connection, source_id: str, before: Instant, most: int) -> list[IdleRecord]:
    """Return active records whose users signed in last before an instant."""
    r = t.record.c
    where = (
        r.source_id == source_id,
        r.connection_type == SIGN_IN,
        r.signed_in_at.is_not(None),
        r.signed_in_at < before,
        r.deleted_at.is_(None),
        r.in_use.is_(None),
        r.left_out.is_(None),
        r.undecided.is_(False),
    )
    statement = select(r.id, r.user_id, r.data).where(*where).order_by(r.signed_in_at).limit(most)
    return [IdleRecord(*row) for row in connection.execute(statement)]


def make_idle(connection: Connection, record: IdleRecord) -> None:
    """Let a record count as inactive until the user signs in again."""
    values = {"in_use": {**record.data, "active": False}}
    connection.execute(update(t.record).where(t.record.c.id == record.id).values(**values))


def records_of_user(connection: Connection, user_id: str) -> dict[str, SignInRecord]:
    """Return by source ID the records with which a user signs in."""
    r = t.record.c
    rows = connection.execute(_records().where(r.user_id == user_id, r.deleted_at.is_(None)))
    return {row.source_id: SignInRecord(*row) for row in rows}


def imported_user(
    connection: Connection, source_id: str, connection_type: str, user_name_key: str
) -> str | None:
    """Return the ID of the user that a connection of a source reports under a user name, or None."""
    r = t.record.c
    where = (
        r.source_id == source_id,
        r.connection_type == connection_type,
        r.user_name_key == user_name_key,
        r.deleted_at.is_(None),
    )
    return connection.execute(select(r.user_id).where(*where)).scalar()


def has_email(connection: Connection, email_key: str) -> bool:
    """Return whether a user who has not left has an email address."""
    u = t.user.c
    statement = select(u.id).where(u.email_key == email_key, u.left_at.is_(None)).limit(1)
    return connection.execute(statement).first() is not None


def is_active(connection: Connection, user_id: str) -> bool:
    """Return whether a user is active."""
    return bool(connection.execute(select(t.user.c.active).where(t.user.c.id == user_id)).scalar())


@dataclass(frozen=True)
class NameOfUser:
    """The names of a user."""

    display_name: str
    user_name: str


def names_of(connection: Connection, user_id: str) -> NameOfUser:
    """Return the names of a user, who exists."""
    u = t.user.c
    return NameOfUser(*connection.execute(select(u.display_name, u.user_name).where(u.id == user_id)).one())


def is_in_group(connection: Connection, source_id: str, group: str, user_id: str) -> bool:
    """Return whether a user is in a group of a source, or in a local group.

    Args:
        group: the name or the ID of the group.
    """
    r, m, g = t.record.c, t.membership.c, t.group.c
    theirs = select(r.id).where(r.user_id == user_id)
    statement = (
        select(g.id)
        .join(t.membership, m.group_id == g.id)
        .where(
            m.until_at.is_(None),
            g.deleted_at.is_(None),
            (g.display_name_key == fold(group)) | (g.id == group),
            (g.source_id == source_id) | g.source_id.is_(None),
            m.record_id.in_(theirs) | (m.user_id == user_id),
        )
        .limit(1)
    )
    return connection.execute(statement).first() is not None


@dataclass(frozen=True)
class KnownGroup:
    """A present group of a source."""

    id: str
    display_name: str
    display_name_key: str
    native_id: str | None
    external_id: str | None


def groups_named(
    connection: Connection, source_id: str, name_keys: Collection[str], ids: Collection[str]
) -> list[KnownGroup]:
    """Return the present groups of a source with one of some names, native IDs or external IDs."""
    g = t.group.c
    named = or_(g.native_id.in_(ids), g.external_id.in_(ids), g.display_name_key.in_(name_keys))
    statement = (
        select(g.id, g.display_name, g.display_name_key, g.native_id, g.external_id)
        .where(g.source_id == source_id, g.deleted_at.is_(None), named)
        .order_by(g.id)
    )
    return [KnownGroup(*row) for row in connection.execute(statement)]


def note_claims(connection: Connection, record_id: str, now: Instant) -> None:
    """Note when the claims about groups were received."""
    connection.execute(update(t.record).where(t.record.c.id == record_id).values(claims_seen_at=now))


def records_with_claims_before(
    connection: Connection, source_id: str, before: Instant, most: int
) -> list[tuple[str, str]]:
    """Return (record ID, user ID) of records whose claimed memberships are older than an instant."""
    r = t.record.c
    where = (
        r.source_id == source_id,
        r.connection_type == SIGN_IN,
        r.claims_seen_at.is_not(None),
        r.claims_seen_at < before,
    )
    rows = connection.execute(select(r.id, r.user_id).where(*where).limit(most))
    return [(record_id, user_id) for record_id, user_id in rows]


def forget_claims(connection: Connection, record_ids: Collection[str]) -> None:
    """Note that records have no memberships from claims any more."""
    connection.execute(update(t.record).where(t.record.c.id.in_(record_ids)).values(claims_seen_at=None))


@dataclass(frozen=True)
class HeldRole:
    """A role of a user in an application, with the reasons."""

    application_key: str
    application_label: str
    role: str
    reasons: list[dict[str, Any]]


def roles_of(connection: Connection, user_id: str) -> list[HeldRole]:
    """Return the roles of a user by application, the lowest first."""
    x, p, r = t.access.c, t.application.c, t.role.c
    statement = (
        select(p.key, p.label, r.label, x.reasons)
        .join(t.application, p.id == x.application_id)
        .join(t.role, r.id == x.role_id)
        .where(x.user_id == user_id, x.until_at.is_(None))
        .order_by(p.label, r.rank)
    )
    return [HeldRole(*row) for row in connection.execute(statement)]
