"""Provisioning tasks that are ready, and tasks whose outcome became unknown in a crash."""

from __future__ import annotations

from dataclasses import dataclass

from sqlalchemy import delete, exists, or_, select, update

from dravo.core.instants import Instant, later
from dravo.protocols.scim_client.bulk import most_together
from dravo.protocols.scim_client.capabilities import read_capabilities
from dravo.services.context import AppContext
from dravo.services.provisioning import health as application_health
from dravo.store import clock
from dravo.store import tables as t
from dravo.store.plan_writer import WAITING

UNKNOWN = "unknown"


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


# Removals start only after the removal limit let them through.
NOT_HELD = or_(t.task.c.removes.is_(False), t.task.c.released_at.is_not(None))


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
    d, p = t.task.c, t.application.c
    chosen: list[ReadyTask] = []
    with ctx.database.reading() as connection:
        applications = connection.execute(
            select(p.id, p.max_concurrency, p.failures, p.capabilities).where(
                p.enabled.is_(True),
                p.base_url.is_not(None),
                p.secret.is_not(None),
                p.paused_at.is_(None),
                or_(p.retry_at.is_(None), p.retry_at <= now),
                exists().where(
                    d.application_id == p.id, d.status == WAITING, d.next_attempt_at <= now, NOT_HELD
                ),
            )
        ).all()
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
            rows = connection.execute(
                select(d.id, d.account_id)
                .where(
                    d.application_id == application.id,
                    d.status == WAITING,
                    d.next_attempt_at <= now,
                    NOT_HELD,
                    ~exists().where(t.pending_recompute.c.user_id == d.user_id),
                )
                .order_by(d.next_attempt_at)
                .limit(free + len(in_hand))
            )
            fitting = [
                ReadyTask(
                    row.id, row.account_id, application.id, pace, together, bool(application.capabilities)
                )
                for row in rows
                if row.account_id not in in_hand
            ]
            chosen.extend(fitting[:free])
    return chosen


def mark_in_flight_unknown(ctx: AppContext) -> None:
    """Mark the state of accounts and groups as unknown whose attempt was running when the worker ended.

    Each is read before it is changed again, because the lost response may have changed it.
    """
    now = clock.now()
    a, d, g = t.account.c, t.task.c, t.provisioned_group.c
    with ctx.database.writing() as connection:
        being_worked_on = select(d.account_id).where(d.closed_at.is_(None), d.status == WAITING)
        connection.execute(
            update(t.account).where(a.id.in_(being_worked_on), a.remote_id.is_not(None)).values(applied=None)
        )
        connection.execute(
            update(t.account)
            .where(a.id.in_(being_worked_on), a.remote_id.is_(None))
            .values(outcome_unknown_since=now)
        )
        connection.execute(update(t.provisioned_group).where(g.status == WAITING).values(applied_at=None))


def sweep(ctx: AppContext, now: Instant, days: int) -> None:
    """Delete the attempts of tasks that were closed more than some days ago."""
    closed = select(t.task.c.id).where(t.task.c.closed_at < later(now, -86_400 * days))
    with ctx.database.writing() as connection:
        connection.execute(delete(t.task_attempt).where(t.task_attempt.c.task_id.in_(closed)))
