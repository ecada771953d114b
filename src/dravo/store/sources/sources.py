"""Rows of sources."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection, ScalarSelect, Select, func, insert, select, update

from dravo.core.identity.acceptance import DEACTIVATION, DELETION
from dravo.core.instants import Instant
from dravo.store import tables as t
from dravo.store.queries.references import KeyAndLabel


@dataclass(frozen=True)
class Source:
    """A row of the table of sources.

    Attributes:
        priority: the rank among sources; 1 is the highest.
        deactivation_wins: whether its inactive users are inactive whatever other sources report.
        updates: whether it changes users whom another source knows.
        policy: the answers to the source policy as `core.source_policy` reads them; None before they are
            given.
        domains: the email domains that it owns, beside those of its policies, or None.
        note: a note of operators, or None.
        retired_at: when it was retired, or None.
        scim_policy: the policy of inbound SCIM as `core.source_policy` reads it, or None.
        scim_status: the status of inbound SCIM: "disabled", "pilot" or "enabled".
        scim_enabled_from: when the status becomes "enabled", or None.
        template: the key of the template from which it was added, or None.
        members_from: who decides about the members of its groups.
    """

    id: str
    key: str
    label: str
    connection_type: str
    priority: int
    deactivation_wins: bool
    updates: bool
    policy: dict[str, Any] | None
    domains: list[str] | None
    created_at: Instant
    note: str | None
    scim_policy: dict[str, Any] | None
    scim_status: str
    scim_enabled_from: Instant | None
    retired_at: Instant | None
    template: str | None
    members_from: str


def by_key(connection: Connection, key: str) -> Source | None:
    """Return the source with a key, or None."""
    row = connection.execute(select(t.source).where(t.source.c.key == key)).first()
    return None if row is None else Source(*row)


def by_id(connection: Connection, source_id: str) -> Source:
    """Return a source by its ID, which exists."""
    return Source(*connection.execute(select(t.source).where(t.source.c.id == source_id)).one())


def with_due_activation(connection: Connection, now: Instant) -> list[Source]:
    """Return the sources whose inbound SCIM is to be enabled by now."""
    s = t.source.c
    where = (s.scim_enabled_from.is_not(None), s.scim_enabled_from <= now, s.retired_at.is_(None))
    return [Source(*row) for row in connection.execute(select(t.source).where(*where))]


def stored_policy(connection: Connection, source_id: str) -> Any:
    """Return the stored source policy of a source; None without one, or if the source was deleted."""
    return connection.execute(select(t.source.c.policy).where(t.source.c.id == source_id)).scalar()


def labels(connection: Connection) -> dict[str, str]:
    """Return the labels of all sources by key."""
    return {row.key: row.label for row in connection.execute(select(t.source.c.key, t.source.c.label))}


@dataclass(frozen=True)
class TokenExpiry:
    """Which tokens are shown as expiring: used after one time, and expiring before another."""

    used_after: Instant
    ends_before: Instant


def token_ends(source_id: Any, expiry: TokenExpiry) -> ScalarSelect[Instant]:
    """Return as a column the first expiry of a source's tokens in use, if it is near.

    Args:
        source_id: a column of the outer query.
        expiry: which tokens count.
    """
    k = t.source_token.c
    used = (
        k.source_id == source_id,
        k.revoked_at.is_(None),
        k.last_used_at > expiry.used_after,
        k.expires_at < expiry.ends_before,
    )
    return select(func.min(k.expires_at)).where(*used).correlate(source_id.table).scalar_subquery()


def last_run(column: Any, source_id: Any) -> ScalarSelect[str]:
    """Return as a column a value of a source's last run that was no preview; `source_id` is a column of the
    outer query.
    """
    r = t.run.c
    real = (r.source_id == source_id, r.source_id.is_not(None), r.preview.is_(False), r.ended_at.is_not(None))
    return (
        select(column)
        .where(*real)
        .order_by(r.id.desc())
        .limit(1)
        .correlate(source_id.table)
        .scalar_subquery()
    )


def waiting_ends(source_id: Any) -> ScalarSelect[int]:
    """Return as a column the number of users of a source whose deactivation or deletion waits; `source_id` is
    a column of the outer query.
    """
    r = t.record.c
    return (
        select(func.count())
        .select_from(t.record)
        .where(r.source_id == source_id, r.waiting.is_not(None), r.waiting.in_((DEACTIVATION, DELETION)))
        .correlate(source_id.table)
        .scalar_subquery()
    )


def insert_source(connection: Connection, values: dict[str, Any]) -> None:
    """Insert a source.

    Raises:
        IntegrityError: if the key is taken.
    """
    connection.execute(insert(t.source).values(**values))


def update_source(connection: Connection, source_id: str, **values: Any) -> None:
    """Change columns of a source."""
    connection.execute(update(t.source).where(t.source.c.id == source_id).values(**values))


def keys_and_labels(connection: Connection, source_ids: Sequence[str]) -> dict[str, KeyAndLabel]:
    """Return {"key", "label"} of sources by ID."""
    s = t.source.c
    rows = connection.execute(select(s.id, s.key, s.label).where(s.id.in_(source_ids)))
    return {row.id: KeyAndLabel(row.key, row.label) for row in rows}


def users_of_several_sources(source_id: str) -> Select[str]:
    """Return the select of users that a source and another one report."""
    r = t.record.c
    here = select(r.user_id).where(r.source_id == source_id)
    several = select(r.user_id).where(r.user_id.in_(here)).group_by(r.user_id).having(func.count() > 1)
    return select(t.user.c.id).where(t.user.c.id.in_(several))


def first_of_type(connection: Connection, connection_type: str) -> str | None:
    """Return the ID of a source of a connection type, or None."""
    s = t.source.c
    return connection.execute(select(s.id).where(s.connection_type == connection_type)).scalar()


def keys_that_start_with(connection: Connection, start: str) -> set[str]:
    """Return the keys of sources that start with a text."""
    s = t.source.c
    return set(connection.execute(select(s.key).where(s.key.startswith(start))).scalars())
