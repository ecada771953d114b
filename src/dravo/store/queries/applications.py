"""Rows of applications and their roles."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from sqlalchemy import Connection, func, select, update

from dravo.core.instants import Instant
from dravo.store import tables as t


@dataclass(frozen=True)
class Application:
    """A row of the table of applications, in the order of its columns.

    Attributes:
        owner_id: the operator who owns it, or None.
        address: where users open it, or None.
        revision: raised by each change of what accounts are computed from.
        tracked_only: whether no accounts are provisioned.
        secret: the encrypted credentials of the SCIM service, or None.
        capabilities: what its SCIM service offers, as checked last; None before the first check.
        attributes: the attribute mapping; None for the default one.
        default_role_id: the fallback role, or None.
        failures: the number of failed calls in a row.
        answered_at: the time of the last answer of its SCIM service.
        trouble, trouble_hint: the last error of its connection, or None.
        note: a note of operators, or None.
        pilot_group_id: while it is enabled, the group whose members alone are provisioned; None for everyone.
        adopt_by: the attributes by which an existing account is adopted; None for none.
        origin_attribute: the attribute that names Dravo as the origin of an account, or None.
        seen_values, seen_at: roles, entitlements and groups that it was seen with, or None.
        requestable: whether users can request access to it.
        unlinked_accounts: what a reconciliation does with accounts that belong to no user.
        approve_tasks: whether each task waits for an operator's approval.
        original_id: the application of which it is another instance, or None.
        tested_at: the time of the last successful test with a test account.
        enabled_from: while it is disabled, the time from which it is enabled, or None.
    """

    id: str
    key: str
    label: str
    owner_id: str | None
    address: str | None
    hidden: bool
    revision: int
    created_at: Instant
    tracked_only: bool
    enabled: bool
    create_accounts: bool
    update_accounts: bool
    on_losing_access: str
    on_inactive: str
    on_leaving: str
    max_concurrency: int
    base_url: str | None
    secret: str | None = field(repr=False)
    capabilities: Any
    checked_at: Instant | None
    auth: Any
    secret_expires_at: Instant | None
    attributes: Any
    role_encoding: Any
    plan_encoding: Any
    provisioned_groups: Any
    adopt_groups: bool
    rate_limit: int | None
    reconcile_schedule: str | None
    reconcile_next_at: Instant | None
    eligibility: str
    fallback: str
    default_role_id: str | None
    several: str
    first: str
    failures: int
    retry_at: Instant | None
    answered_at: Instant | None
    paused_at: Instant | None
    trouble: str | None
    trouble_hint: str | None
    note: str | None
    pilot_group_id: str | None
    enabled_from: Instant | None
    adopt_by: list[str] | None
    origin_attribute: str | None
    seen_values: dict[str, Any] | None
    seen_at: Instant | None
    requestable: bool
    unlinked_accounts: str
    approve_tasks: bool
    original_id: str | None
    tested_at: Instant | None


@dataclass(frozen=True)
class StoredRole:
    """A row of the table of roles."""

    id: str
    application_id: str
    key: str
    label: str
    rank: int
    sent_value: str | None
    description: str | None


def by_key(connection: Connection, key: str) -> Application | None:
    """Return the application with a key, or None."""
    row = connection.execute(select(t.application).where(t.application.c.key == key)).first()
    return None if row is None else Application(*row)


def by_id(connection: Connection, application_id: str) -> Application:
    """Return an application by its ID, which exists."""
    return Application(
        *connection.execute(select(t.application).where(t.application.c.id == application_id)).one()
    )


def key_of(connection: Connection, application_id: str) -> str | None:
    """Return the key of an application, or None if it was deleted."""
    p = t.application.c
    return connection.execute(select(p.key).where(p.id == application_id)).scalar()


def role_key_of(connection: Connection, role_id: str) -> str | None:
    """Return the key of a role, or None if it was deleted."""
    r = t.role.c
    return connection.execute(select(r.key).where(r.id == role_id)).scalar()


def update_application(connection: Connection, application_id: str, **values: Any) -> None:
    """Change columns of an application."""
    connection.execute(update(t.application).where(t.application.c.id == application_id).values(**values))


def role(connection: Connection, application_id: str, key: str) -> StoredRole | None:
    """Return the role of an application with a key, or None."""
    r = t.role.c
    row = connection.execute(select(t.role).where(r.application_id == application_id, r.key == key)).first()
    return None if row is None else StoredRole(*row)


def role_keys(connection: Connection, application_id: str) -> list[str]:
    """Return the keys of an application's roles by rank."""
    return list(values_of_roles(connection, application_id))


def values_of_roles(connection: Connection, application_id: str) -> dict[str, str]:
    """Return by role key the value that is sent to the application, by rank."""
    r = t.role.c
    statement = select(r.key, func.coalesce(r.sent_value, r.key).label("value")).where(
        r.application_id == application_id
    )
    return {row.key: str(row.value) for row in connection.execute(statement.order_by(r.rank, r.key))}
