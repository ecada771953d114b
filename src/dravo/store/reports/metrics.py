"""Numbers for monitoring."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection, Select, func, select

from dravo.core.instants import Instant
from dravo.store import tables as t


@dataclass(frozen=True)
class ApplicationHealth:
    """What monitoring needs to know of an application."""

    id: str
    key: str
    enabled: bool
    paused_at: Instant | None
    failures: int


@dataclass(frozen=True)
class OpenTasks:
    """Open tasks of an application with one status; `oldest` is when the first of them was created."""

    application_id: str
    status: str
    number: int
    oldest: Instant


@dataclass(frozen=True)
class MetricCounts:
    """Numbers over all data.

    Attributes:
        users: by whether they are active, without leavers.
        records: by source key.
        applications: all applications.
        open_tasks: by application and status.
        groups: provisioned groups by application ID and status.
        accounts, drift: existing accounts and open differences by application ID.
        pending_recompute: users whose access is to be recomputed.
    """

    users: dict[bool, int]
    records: dict[str, int]
    applications: list[ApplicationHealth]
    open_tasks: list[OpenTasks]
    groups: dict[tuple[str, str], int]
    accounts: dict[str, int]
    drift: dict[str, int]
    pending_recompute: int


def count(connection: Connection) -> MetricCounts:
    """Count everything that monitoring reads."""
    u, d, g, p = t.user.c, t.task.c, t.provisioned_group.c, t.application.c
    records = (
        select(t.source.c.key, func.count())
        .join(t.record, t.record.c.source_id == t.source.c.id)
        .where(t.record.c.deleted_at.is_(None))
        .group_by(t.source.c.key)
    )
    tasks = (
        select(d.application_id, d.status, func.count(), func.min(d.created_at))
        .where(d.closed_at.is_(None))
        .group_by(d.application_id, d.status)
    )
    groups = select(g.application_id, g.status, func.count()).group_by(g.application_id, g.status)
    accounts = (
        select(t.account.c.application_id, func.count())
        .where(t.account.c.remote_id.is_not(None))
        .group_by(t.account.c.application_id)
    )
    drift = (
        select(t.drift.c.application_id, func.count())
        .where(t.drift.c.status == "open")
        .group_by(t.drift.c.application_id)
    )
    users = select(u.active, func.count()).where(u.left_at.is_(None)).group_by(u.active)
    return MetricCounts(
        users=dict(connection.execute(users).tuples().all()),
        records=_numbers(connection, records),
        applications=[
            ApplicationHealth(*row)
            for row in connection.execute(select(p.id, p.key, p.enabled, p.paused_at, p.failures))
        ],
        open_tasks=[OpenTasks(*row) for row in connection.execute(tasks)],
        groups={(of, status): number for of, status, number in connection.execute(groups)},
        accounts=_numbers(connection, accounts),
        drift=_numbers(connection, drift),
        pending_recompute=connection.execute(
            select(func.count()).select_from(t.pending_recompute)
        ).scalar_one(),
    )


def _numbers(connection: Connection, statement: Select[Any]) -> dict[str, int]:
    return dict(connection.execute(statement).tuples().all())
