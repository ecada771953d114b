"""Provisioned groups: their rows, lists and names."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import Any

from sqlalchemy import Connection, ScalarSelect, func, select, update

from dravo.core.instants import Instant
from dravo.store import provisioned_groups
from dravo.store import tables as t
from dravo.store.pagination import Item, Page, PageRequest, page
from dravo.store.task_status import FAILED, HELD, WAITING


@dataclass(frozen=True)
class GroupWork:
    """A provisioned group that waits, with its application, in the order of the select."""

    id: str
    key: str
    applied_name: str | None
    applied_at: Instant | None
    remote_id: str | None
    origin: str | None
    attempts: int
    application_id: str
    base_url: str | None
    secret: str | None = field(repr=False)
    auth: Any
    capabilities: Any
    rate_limit: int | None
    enabled: bool
    pilot_group_id: str | None
    paused_at: Instant | None
    failures: int
    adopt_groups: bool
    role_encoding: Any
    provisioned_groups: Any


def work_of(connection: Connection, group_id: str) -> GroupWork | None:
    """Return a provisioned group that waits, with its application; or None."""
    g, p = t.provisioned_group.c, t.application.c
    statement = (
        select(
            g.id,
            g.key,
            g.applied_name,
            g.applied_at,
            g.remote_id,
            g.origin,
            g.attempts,
            g.application_id,
            p.base_url,
            p.secret,
            p.auth,
            p.capabilities,
            p.rate_limit,
            p.enabled,
            p.pilot_group_id,
            p.paused_at,
            p.failures,
            p.adopt_groups,
            p.role_encoding,
            p.provisioned_groups,
        )
        .join(t.application, p.id == g.application_id)
        .where(g.id == group_id, g.status == WAITING)
    )
    row = connection.execute(statement).first()
    return None if row is None else GroupWork(*tuple(row))


@dataclass(frozen=True)
class NamedByApplication:
    """What the name of a provisioned group is computed from: its key, and settings of its application."""

    key: str
    application_id: str
    role_encoding: Any
    provisioned_groups: Any


def naming_of(connection: Connection, group_id: str) -> NamedByApplication:
    """Return what the name of a provisioned group, which exists, is computed from."""
    g, p = t.provisioned_group.c, t.application.c
    statement = select(g.key, g.application_id, p.role_encoding, p.provisioned_groups).join(
        t.application, p.id == g.application_id
    )
    return NamedByApplication(*connection.execute(statement.where(g.id == group_id)).one())


def name_of_role_group(connection: Connection, role_id: str) -> str | None:
    """Return the name of the group that a role is sent as: its value, else its label; None if the role was
    deleted.
    """
    r = t.role.c
    return connection.execute(select(func.coalesce(r.sent_value, r.label)).where(r.id == role_id)).scalar()


def group_name(connection: Connection, group_id: str) -> str | None:
    """Return the name of a group, or None if it was deleted."""
    g = t.group.c
    return connection.execute(select(g.display_name).where(g.id == group_id, g.deleted_at.is_(None))).scalar()


def update_group(connection: Connection, group_id: str, **values: Any) -> None:
    """Change columns of a provisioned group."""
    connection.execute(
        update(t.provisioned_group).where(t.provisioned_group.c.id == group_id).values(**values)
    )


def applied_since(connection: Connection, account_ids: Sequence[str], since: Instant) -> set[str]:
    """Return those of some accounts that were brought in sync after an instant."""
    a = t.account.c
    where = (a.id.in_(account_ids), a.applied.is_not(None), a.applied_at > since)
    return set(connection.execute(select(a.id).where(*where)).scalars())


def wake_failed(connection: Connection, application_id: str, now: Instant) -> None:
    """Have failed and held groups of an application be tried again."""
    g = t.provisioned_group.c
    provisioned_groups.wake(
        connection, (g.application_id == application_id) & g.status.in_((FAILED, HELD)), now
    )


def wake_all(connection: Connection, application_id: str, now: Instant) -> None:
    """Have every group of an application be looked at again."""
    provisioned_groups.wake(connection, t.provisioned_group.c.application_id == application_id, now)


def wake_one(connection: Connection, group_id: str, now: Instant) -> None:
    """Have a group be tried now."""
    provisioned_groups.wake(connection, t.provisioned_group.c.id == group_id, now)


def belongs_to(connection: Connection, group_id: str, application_key: str) -> bool:
    """Return whether an application has a provisioned group."""
    g, p = t.provisioned_group.c, t.application.c
    statement = select(g.id).join(t.application, p.id == g.application_id)
    where = (g.id == group_id, p.key == application_key)
    return connection.execute(statement.where(*where)).first() is not None


@dataclass(frozen=True)
class ListedGroup:
    """A provisioned group with its numbers of desired and of applied members, in the order of the select."""

    id: str
    key: str
    status: str
    applied_name: str | None
    applied_at: Instant | None
    remote_id: str | None
    origin: str | None
    next_attempt_at: Instant | None
    message: str | None
    hint: str | None
    exchanges: list[dict[str, Any]] | None
    application_id: str
    role_encoding: Any
    provisioned_groups: Any
    desired_members: int
    applied_members: int


def list_groups(
    connection: Connection,
    application_id: str,
    page_request: PageRequest,
    show: Callable[[ListedGroup], Item],
) -> Page[Item]:
    """Return a page of the provisioned groups of an application."""
    g, p, m = t.provisioned_group.c, t.application.c, t.provisioned_member.c

    def members(condition: Any) -> ScalarSelect[int]:
        statement = select(func.count()).select_from(t.provisioned_member)
        return statement.where(m.provisioned_group_id == g.id, condition).scalar_subquery()

    statement = (
        select(
            g.id,
            g.key,
            g.status,
            g.applied_name,
            g.applied_at,
            g.remote_id,
            g.origin,
            g.next_attempt_at,
            g.message,
            g.hint,
            g.exchanges,
            g.application_id,
            p.role_encoding,
            p.provisioned_groups,
            members(m.desired.is_(True)).label("desired_members"),
            members(m.applied_remote_id.is_not(None)).label("applied_members"),
        )
        .join(t.application, p.id == g.application_id)
        .where(g.application_id == application_id)
    )
    # The sort key of the page follows the columns.
    return page(connection, statement, [g.id], page_request, lambda row: show(ListedGroup(*row[:-1])))
