"""How much provisioning is pending: users to recompute, tasks and groups by state."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from sqlalchemy import ColumnElement, Connection, and_, func, null, select

from dravo.store import tables as t
from dravo.store.provisioning import pilots
from dravo.store.provisioning.tasks import APPROVED
from dravo.store.task_status import FAILED, HELD, MANUAL, WAITING


@dataclass(frozen=True)
class TaskCounts:
    """Open provisioning tasks and provisioned groups, by what they wait for.

    Attributes:
        recomputing: users whose access, or the manager of whose reports, is being recomputed.
        waiting: tasks and groups that Dravo processes by itself, those that wait for a retry included.
        stopped: tasks and groups whose application has to be enabled, connected or resumed, tasks of users
            outside the pilot group, and tasks without an approval that the application asks for.
        failed, held, unresolved: tasks and groups that wait for an operator.
        manual: tasks of tracked-only applications, which operators carry out.
    """

    recomputing: int
    waiting: int
    stopped: int
    failed: int
    held: int
    unresolved: int
    manual: int


def _is_running() -> ColumnElement[bool]:
    p = t.application.c
    return and_(p.enabled.is_(True), p.paused_at.is_(None), p.base_url.is_not(None), p.secret.is_not(None))


def _runs(connection: Connection, application_id: str) -> bool:
    statement = select(t.application.c.id).where(t.application.c.id == application_id, _is_running())
    return connection.execute(statement).first() is not None


def count_tasks(connection: Connection, application_id: str | None, unresolved_kind: str) -> TaskCounts:
    """Count pending work, of one application or of all.

    Args:
        unresolved_kind: the kind of an error whose outcome is unknown.
    """
    d, g, p = t.task.c, t.provisioned_group.c, t.application.c
    runs = _is_running()

    def counted(
        application: Any, status: Any, kind: Any, runs: ColumnElement[bool], *where: Any
    ) -> list[tuple[str, bool, str | None, int]]:
        statement = (
            select(status, runs, kind, func.count()).join(t.application, p.id == application).where(*where)
        )
        if application_id is not None:
            statement = statement.where(application == application_id)
        return [
            (its_status, its_runs, its_kind, number)
            for its_status, its_runs, its_kind, number in connection.execute(
                statement.group_by(status, runs, kind)
            )
        ]

    rows = [
        *counted(d.application_id, d.status, d.kind, and_(runs, APPROVED), d.closed_at.is_(None)),
        *counted(g.application_id, g.status, null(), runs, g.status.in_((WAITING, FAILED, HELD))),
    ]

    def total(status: str, *, running: bool | None = None, unresolved: bool | None = None) -> int:
        return sum(
            number
            for its_status, its_runs, its_kind, number in rows
            if its_status == status
            and (running is None or bool(its_runs) is running)
            and (unresolved is None or (its_kind == unresolved_kind) is unresolved)
        )

    outside = sum(
        pilots.number_outside(connection, each)
        for each in pilots.list_pilots(connection, application_id)
        if _runs(connection, each.application_id)
    )
    return TaskCounts(
        recomputing=sum(
            connection.execute(select(func.count()).select_from(table)).scalar_one()
            for table in (t.pending_recompute, t.pending_manager)
        ),
        waiting=total(WAITING, running=True) - outside,
        stopped=total(WAITING, running=False) + outside,
        failed=total(FAILED),
        held=total(HELD, unresolved=False),
        unresolved=total(HELD, unresolved=True),
        manual=total(MANUAL),
    )
