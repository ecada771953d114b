"""Metrics for monitoring: numbers of users, pending work and errors.

No names of users, no secrets.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

from sqlalchemy import func, select

from dravo.core.instants import Instant, seconds_between
from dravo.services import events
from dravo.services.context import AppContext
from dravo.services.heartbeats import Heartbeats
from dravo.store import tables as t


@dataclass(frozen=True)
class Measure:
    """One kind of number with its values, each with labels."""

    name: str
    meaning: str
    values: tuple[tuple[dict[str, str], float], ...]
    kind: str = "gauge"


def measures(ctx: AppContext, now: Instant) -> list[Measure]:
    """Return every metric with its current value."""
    u, d, g = t.user.c, t.task.c, t.provisioned_group.c
    with ctx.database.reading() as connection:

        def rows(statement: Any) -> list[Any]:
            return list(connection.execute(statement))

        users = rows(select(u.active, func.count()).where(u.left_at.is_(None)).group_by(u.active))
        sources = rows(
            select(t.source.c.key, func.count())
            .join(t.record, t.record.c.source_id == t.source.c.id)
            .where(t.record.c.deleted_at.is_(None))
            .group_by(t.source.c.key)
        )
        applications = {row.id: row for row in rows(select(t.application))}
        open_now = rows(
            select(d.application_id, d.status, func.count(), func.min(d.created_at))
            .where(d.closed_at.is_(None))
            .group_by(d.application_id, d.status)
        )
        groups = rows(select(g.application_id, g.status, func.count()).group_by(g.application_id, g.status))
        accounts = rows(
            select(t.account.c.application_id, func.count())
            .where(t.account.c.remote_id.is_not(None))
            .group_by(t.account.c.application_id)
        )
        drifting = rows(
            select(t.drift.c.application_id, func.count())
            .where(t.drift.c.status == "open")
            .group_by(t.drift.c.application_id)
        )
        marks = rows(select(func.count()).select_from(t.pending_recompute))[0][0]

    def label(application_id: str, **more: str) -> dict[str, str]:
        return {"application": applications[application_id].key, **more}

    provisioning = [row for row in applications.values() if row.enabled]
    return [
        Measure(
            "dravo_users",
            "Users, without leavers.",
            tuple(({"status": "active" if row[0] else "inactive"}, row[1]) for row in users),
        ),
        Measure(
            "dravo_records", "Users of each source.", tuple(({"source": row[0]}, row[1]) for row in sources)
        ),
        Measure(
            "dravo_accounts",
            "Accounts in each application.",
            tuple((label(row[0]), row[1]) for row in accounts),
        ),
        Measure(
            "dravo_tasks_open",
            "Provisioning tasks that are not done.",
            tuple((label(row[0], status=row[1]), row[2]) for row in open_now),
        ),
        Measure(
            "dravo_task_oldest_seconds",
            "Age of the oldest waiting task, in seconds.",
            tuple((label(row[0]), seconds_between(row[3], now)) for row in open_now if row[1] == "waiting"),
        ),
        Measure(
            "dravo_provisioned_groups",
            "Provisioned groups by status.",
            tuple((label(row[0], status=row[1]), row[2]) for row in groups),
        ),
        Measure(
            "dravo_drift_open",
            "Open differences found by reconciliation.",
            tuple((label(row[0]), row[1]) for row in drifting),
        ),
        Measure(
            "dravo_application_paused",
            "1 if provisioning is paused.",
            tuple((label(row.id), 1 if row.paused_at else 0) for row in provisioning),
        ),
        Measure(
            "dravo_application_failures",
            "Consecutive failures.",
            tuple((label(row.id), row.failures) for row in provisioning),
        ),
        Measure("dravo_users_to_work_out", "Users whose access is being recalculated.", (({}, marks),)),
    ]


def of_worker(heartbeats: Heartbeats | None) -> list[Measure]:
    """Return the metrics of the worker's loops; nothing without a worker."""
    if heartbeats is None:
        return []
    ages, counts = heartbeats.ages(), heartbeats.counts()
    return [
        Measure(
            "dravo_worker_heartbeat_age_seconds",
            "Seconds since each loop's last iteration.",
            tuple(({"loop": key}, ages[key]) for key in ages),
        ),
        Measure(
            "dravo_worker_errors",
            "Unexpected errors since the service started.",
            tuple(({"kind": key}, counts[key]) for key in counts),
        ),
    ]


def of_events() -> list[Measure]:
    """Return how often each logged event has happened since the service started."""
    return [
        Measure(
            f"dravo_{event}s",
            events.MEANINGS[event],
            tuple(({"outcome": outcome}, number) for outcome, number in outcomes.items()),
            "counter",
        )
        for event, outcomes in events.counts().items()
    ]


def as_text(found: list[Measure]) -> Iterator[str]:
    """Yield the lines of the OpenMetrics text format."""
    for each in found:
        yield f"# HELP {each.name} {each.meaning}"
        yield f"# TYPE {each.name} {each.kind}"
        # OpenMetrics has the samples of counters end so.
        sample = f"{each.name}_total" if each.kind == "counter" else each.name
        for labels, value in each.values:
            inner = ",".join(f'{name}="{_escaped(text)}"' for name, text in labels.items())
            yield f"{sample}{'{' + inner + '}' if inner else ''} {value:g}"
    yield "# EOF"


def _escaped(text: str) -> str:
    return text.replace("\\", "\\\\").replace('"', '\\"').replace("\n", "\\n")
