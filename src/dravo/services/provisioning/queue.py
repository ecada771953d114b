"""Provisioning tasks that are ready, and tasks whose outcome became unknown in a crash."""

from __future__ import annotations

from dataclasses import dataclass

from dravo.core.instants import Instant, later
from dravo.protocols.scim_client.bulk import most_together
from dravo.protocols.scim_client.capabilities import read_capabilities
from dravo.services.context import AppContext
from dravo.services.provisioning import health as application_health
from dravo.store import clock
from dravo.store.provisioning import tasks as stored


@dataclass(frozen=True)
class ReadyTask:
    """A task that may be tried now."""

    id: str
    account_id: str
    application_id: str
    # Maximum number of concurrent requests to the application at present, and of changes in one request.
    pace: int = 1
    together: int = 1
    # Whether the capabilities of the application are known; if not, one task goes first and reads them.
    known: bool = True


def ready(
    ctx: AppContext, now: Instant, busy: dict[str, int], in_hand: set[str], most: int, ahead: int = 0
) -> list[ReadyTask]:
    """Return the tasks to try now, within each application's rate.

    Args:
        ahead: how many more to return for each answering application, to be tried as soon as others end.
        busy: the number of running attempts, by application ID.
        in_hand: accounts with a running attempt; one account never has two.
        most: the largest number to return.
    """
    chosen: list[ReadyTask] = []
    with ctx.database.reading() as connection:
        applications = stored.ready_applications(connection, now)
        # No application gets all threads, however much is due for it.
        share = max(1, most // max(1, len(applications)))
        for application in applications:
            probing = application.failures >= application_health.NOT_ANSWERING
            pace = 1 if probing else application.max_concurrency
            together = 1 if probing else most_together(read_capabilities(application.capabilities))
            more = ahead if pace > 1 or together > 1 else 0
            free = min(pace - busy.get(application.id, 0) + more, share)
            if free <= 0:
                continue
            rows = stored.due_tasks(
                connection, application.id, now, free + len(in_hand), application.pilot_group_id
            )
            fitting = [
                ReadyTask(task_id, account_id, application.id, pace, together, bool(application.capabilities))
                for task_id, account_id in rows
                if account_id not in in_hand
            ]
            chosen.extend(fitting[:free])
    return chosen


def mark_in_flight_unknown(ctx: AppContext) -> None:
    """Mark the state of accounts and groups as unknown whose attempt was running when the worker ended.

    Each is read before it is changed again, because the lost response may have changed it.
    """
    with ctx.database.writing() as connection:
        stored.mark_in_flight_unknown(connection, clock.now())


def sweep(ctx: AppContext, now: Instant, days: int) -> None:
    """Delete the attempts of tasks that were closed more than some days ago."""
    with ctx.database.writing() as connection:
        stored.delete_attempts(connection, later(now, -86_400 * days))
