"""Metrics for monitoring: numbers of users, pending work and errors.

No names of users, no secrets.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from dravo.core.instants import Instant, seconds_between
from dravo.services import events
from dravo.services.context import AppContext
from dravo.services.heartbeats import Heartbeats
from dravo.store.reports import metrics as stored
from dravo.store.reports.metrics import MetricCounts


@dataclass(frozen=True)
class Measure:
    """One kind of number with its values, each with labels."""

    name: str
    meaning: str
    values: tuple[tuple[dict[str, str], float], ...]
    kind: str = "gauge"


def measures(ctx: AppContext, now: Instant) -> list[Measure]:
    """Return every metric with its current value."""
    with ctx.database.reading() as connection:
        found = stored.count(connection)
    return [*_of_users(found), *_of_applications(found, now)]


def _of_users(found: MetricCounts) -> list[Measure]:
    return [
        Measure(
            "dravo_users",
            "Users, without leavers.",
            tuple(
                ({"status": "active" if active else "inactive"}, number)
                for active, number in found.users.items()
            ),
        ),
        Measure(
            "dravo_records",
            "Users of each source.",
            tuple(({"source": key}, number) for key, number in found.records.items()),
        ),
        Measure(
            "dravo_users_pending_recompute",
            "Users whose access is being recalculated.",
            (({}, found.pending_recompute),),
        ),
    ]


def _of_applications(found: MetricCounts, now: Instant) -> list[Measure]:
    keys = {each.id: each.key for each in found.applications}

    def label(application_id: str, **more: str) -> dict[str, str]:
        return {"application": keys[application_id], **more}

    provisioning = [each for each in found.applications if each.enabled]
    return [
        Measure(
            "dravo_accounts",
            "Accounts in each application.",
            tuple((label(of), number) for of, number in found.accounts.items()),
        ),
        Measure(
            "dravo_tasks_open",
            "Provisioning tasks that are not done.",
            tuple((label(each.application_id, status=each.status), each.number) for each in found.open_tasks),
        ),
        Measure(
            "dravo_task_oldest_seconds",
            "Age of the oldest waiting task, in seconds.",
            tuple(
                (label(each.application_id), seconds_between(each.oldest, now))
                for each in found.open_tasks
                if each.status == "waiting"
            ),
        ),
        Measure(
            "dravo_provisioned_groups",
            "Provisioned groups by status.",
            tuple((label(of, status=status), number) for (of, status), number in found.groups.items()),
        ),
        Measure(
            "dravo_drift_open",
            "Open differences found by reconciliation.",
            tuple((label(of), number) for of, number in found.drift.items()),
        ),
        Measure(
            "dravo_application_paused",
            "1 if provisioning is paused.",
            tuple((label(each.id), 1 if each.paused_at else 0) for each in provisioning),
        ),
        Measure(
            "dravo_application_failures",
            "Consecutive failures.",
            tuple((label(each.id), each.failures) for each in provisioning),
        ),
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
        # In OpenMetrics, samples of counters end with "_total".
        sample = f"{each.name}_total" if each.kind == "counter" else each.name
        for labels, value in each.values:
            inner = ",".join(f'{name}="{_escaped(text)}"' for name, text in labels.items())
            yield f"{sample}{'{' + inner + '}' if inner else ''} {value:g}"
    yield "# EOF"


def _escaped(text: str) -> str:
    return text.replace("\\", "\\\\").replace('"', '\\"').replace("\n", "\\n")
