"""What traffic has verified about an application."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection, func, select

from dravo.core.instants import Instant
from dravo.core.provisioning.accounts import PRESENT
from dravo.store import tables as t
from dravo.store.queries.runs import FINISHED
from dravo.store.task_status import DONE

Times = tuple[Instant | None, Instant | None]


@dataclass(frozen=True)
class VerifiedTimes:
    """The first and the last time of each kind of success."""

    accounts: Times
    with_role: Times
    removals: Times
    reconciliations: Times


def read(connection: Connection, application_id: str) -> VerifiedTimes:
    """Return what was verified about an application."""
    a, d, r = t.account.c, t.task.c, t.run.c
    there = (
        a.application_id == application_id,
        a.applied_at.is_not(None),
        func.json_extract(a.last_applied, "$.want") == PRESENT,
    )
    with_role = func.json_array_length(a.last_applied, "$.roles") > 0

    def times(column: Any, *where: Any) -> Times:
        row = connection.execute(select(func.min(column), func.max(column)).where(*where)).one()
        return row[0], row[1]

    return VerifiedTimes(
        times(a.applied_at, *there),
        times(a.applied_at, *there, with_role),
        times(d.closed_at, d.application_id == application_id, d.status == DONE, d.removes.is_(True)),
        times(r.ended_at, r.application_id == application_id, r.status == FINISHED),
    )
