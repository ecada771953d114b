"""Drift of applications, and the states that a reconciliation compares with."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection, and_, case, delete, exists, insert, or_, select, update

from dravo.core.instants import Instant
from dravo.store import tables as t
from dravo.store.pagination import Item, Page, PageRequest, page
from dravo.store.task_status import DONE, FAILED

CHUNK = 500


@dataclass(frozen=True)
class StoredDrift:
    """A row of the table of drift, in the order of its columns.

    Attributes:
        about: the ID of the account, group or remote object that differs.
        there: the account as the application lists it, or None.
        differences: for each attribute its values before and after a repair, or None.
        run_id: the run that found it last.
        message, hint: why the policy for accounts without a user left it to operators, or None.
    """

    id: str
    application_id: str
    kind: str
    about: str
    account_id: str | None
    remote_id: str | None
    name: str
    there: dict[str, Any] | None
    differences: list[dict[str, Any]] | None
    status: str
    first_seen_at: Instant
    last_seen_at: Instant
    run_id: str
    message: str | None
    hint: str | None


@dataclass(frozen=True)
class ListedDrift(StoredDrift):
    """Drift with the state of its account or group."""

    user_id: str | None
    applied_at: Instant | None
    applied_version: int | None
    desired_version: int | None
    group_applied_at: Instant | None
    group_status: str | None


@dataclass(frozen=True)
class DriftFilter:
    """Which drift to list.

    Attributes:
        kind: a kind of difference.
        status: a status; without one, all but `without`.
        without: a status that is left out.
    """

    without: str
    kind: str | None = None
    status: str | None = None


def list_drift(
    connection: Connection,
    application_id: str,
    page_request: PageRequest,
    only: DriftFilter,
    group_kinds: Collection[str],
    show: Callable[[ListedDrift], Item],
) -> Page[Item]:
    """Return a page of an application's drift by name.

    Args:
        group_kinds: the kinds that are about groups.
    """
    d, a, g = t.drift.c, t.account.c, t.provisioned_group.c
    statement = (
        select(
            t.drift,
            a.user_id,
            a.applied_at,
            a.applied_version,
            a.desired_version,
            g.applied_at.label("group_applied_at"),
            g.status.label("group_status"),
        )
        .outerjoin(t.account, a.id == d.account_id)
        .outerjoin(t.provisioned_group, d.kind.in_(group_kinds) & (g.id == d.about))
        .where(d.application_id == application_id)
        .where(d.status == only.status if only.status else d.status != only.without)
    )
    if only.kind:
        statement = statement.where(d.kind == only.kind)
    # The sort keys of the page follow the columns.
    return page(connection, statement, [d.name, d.id], page_request, lambda row: show(ListedDrift(*row[:-2])))


def of_application(connection: Connection, application_id: str) -> list[StoredDrift]:
    """Return all drift of an application."""
    statement = select(t.drift).where(t.drift.c.application_id == application_id)
    return [StoredDrift(*row) for row in connection.execute(statement)]


def some(connection: Connection, application_id: str, drift_ids: Sequence[str]) -> list[StoredDrift]:
    """Return differences of an application by ID."""
    d = t.drift.c
    statement = select(t.drift).where(d.application_id == application_id, d.id.in_(drift_ids))
    return [StoredDrift(*row) for row in connection.execute(statement)]


def insert_drift(connection: Connection, rows: Sequence[Mapping[str, Any]]) -> None:
    """Insert differences."""
    if rows:
        connection.execute(insert(t.drift), [dict(each) for each in rows])


def update_drift(connection: Connection, drift_id: str, **values: Any) -> None:
    """Change columns of a difference."""
    connection.execute(update(t.drift).where(t.drift.c.id == drift_id).values(**values))


def update_several(connection: Connection, drift_ids: Sequence[str], **values: Any) -> None:
    """Change columns of some differences."""
    for start in range(0, len(drift_ids), CHUNK):
        some = t.drift.c.id.in_(drift_ids[start : start + CHUNK])
        connection.execute(update(t.drift).where(some).values(**values))


def delete_drift(connection: Connection, drift_ids: Sequence[str]) -> None:
    """Delete differences."""
    for start in range(0, len(drift_ids), CHUNK):
        connection.execute(delete(t.drift).where(t.drift.c.id.in_(drift_ids[start : start + CHUNK])))


def delete_of_account(connection: Connection, account_id: str, kind: str) -> None:
    """Delete the differences of one kind of an account."""
    d = t.drift.c
    connection.execute(delete(t.drift).where(d.account_id == account_id, d.kind == kind))


def has_drift(connection: Connection, account_id: str, kind: str, remote_id: str | None) -> bool:
    """Return whether an account has a difference of a kind, found for a remote ID."""
    d = t.drift.c
    where = (d.account_id == account_id, d.kind == kind, d.remote_id == remote_id)
    return connection.execute(select(d.id).where(*where)).first() is not None


# What a reconciliation compares with


@dataclass(frozen=True)
class ComparedAccount:
    """An account with the state to reach; `failed` if its task failed."""

    id: str
    desired: dict[str, Any]
    applied: dict[str, Any] | None
    desired_version: int
    applied_version: int
    remote_id: str | None
    display_name: str
    failed: bool


def accounts_to_compare(connection: Connection, application_id: str) -> list[ComparedAccount]:
    """Return the accounts of an application that exist there or could not be provisioned."""
    a, u, d = t.account.c, t.user.c, t.task.c
    failed = exists().where(d.account_id == a.id, d.closed_at.is_(None), d.status == FAILED)
    statement = (
        select(
            a.id,
            a.desired,
            a.applied,
            a.desired_version,
            a.applied_version,
            a.remote_id,
            u.display_name,
            failed.label("failed"),
        )
        .join(t.user, u.id == a.user_id)
        .where(a.application_id == application_id, a.remote_id.is_not(None) | failed)
    )
    return [ComparedAccount(*row) for row in connection.execute(statement)]


def names_by_remote_id(connection: Connection, application_id: str) -> dict[str, str]:
    """Return the names of an application's users by the remote IDs of their accounts."""
    a, u = t.account.c, t.user.c
    statement = (
        select(a.remote_id, u.display_name)
        .join(t.user, u.id == a.user_id)
        .where(a.application_id == application_id, a.remote_id.is_not(None))
    )
    return {row.remote_id: row.display_name for row in connection.execute(statement)}


@dataclass(frozen=True)
class ComparedGroup:
    """A provisioned group that is in sync or failed, with columns of its application."""

    id: str
    key: str
    remote_id: str | None
    application_id: str
    role_encoding: Any
    provisioned_groups: Any


def _settled(application_id: str) -> tuple[Any, ...]:
    g = t.provisioned_group.c
    return (
        g.application_id == application_id,
        or_(and_(g.status == DONE, g.remote_id.is_not(None)), g.status == FAILED),
    )


def groups_to_compare(connection: Connection, application_id: str) -> list[ComparedGroup]:
    """Return the provisioned groups of an application that are in sync or failed."""
    g, p = t.provisioned_group.c, t.application.c
    statement = select(
        g.id, g.key, g.remote_id, g.application_id, p.role_encoding, p.provisioned_groups
    ).join(t.application, p.id == g.application_id)
    return [ComparedGroup(*row) for row in connection.execute(statement.where(*_settled(application_id)))]


def members_to_compare(connection: Connection, application_id: str) -> dict[str, set[str]]:
    """Return by ID of the group the remote IDs of the members that it should have.

    For a failed group no members are stored; its members are then all users with an account.
    """
    g, m, a = t.provisioned_group.c, t.provisioned_member.c, t.account.c
    remote = case((g.status == DONE, m.applied_remote_id), else_=a.remote_id)
    statement = (
        select(g.id, remote)
        .select_from(t.provisioned_group)
        .join(t.provisioned_member, m.provisioned_group_id == g.id)
        .join(t.account, a.id == m.account_id)
        .where(*_settled(application_id), m.desired.is_(True), remote.is_not(None))
    )
    found: dict[str, set[str]] = {}
    for group_id, remote_id in connection.execute(statement):
        found.setdefault(group_id, set()).add(remote_id)
    return found


def remote_ids_of_groups(connection: Connection, application_id: str) -> set[str]:
    """Return the remote IDs of all provisioned groups of an application."""
    g = t.provisioned_group.c
    statement = select(g.remote_id).where(g.application_id == application_id, g.remote_id.is_not(None))
    return {str(each) for each in connection.execute(statement).scalars()}
