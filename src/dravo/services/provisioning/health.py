"""The health of an application's connection: what a response or an error says about it, and when work is
retried.

Tasks for users and for groups both report here. One application is paused, probed and resumed in one way.
"""

from __future__ import annotations

import random
from collections.abc import Mapping, Sequence
from typing import Any

from sqlalchemy import Connection

from dravo.core.instants import Instant, later
from dravo.protocols.scim_client.responses import ConnectionPausedError, ProvisioningError, RetryableError
from dravo.services import events
from dravo.store.provisioning import health as stored
from dravo.store.provisioning.health import ConnectionHealth
from dravo.store.queries import applications as application_rows

Exchanges = Sequence[Mapping[str, Any]]
FIRST_PAUSE, LONGEST_PAUSE = 1.0, 300.0
# After this number of failures in a row an application counts as not answering: only one request at a time
# probes it.
NOT_ANSWERING = 3
LONGEST_PROBE_PAUSE = 60.0
# Seconds between stored successes; for as long after a success, a failure does not concern the application as
# a whole.
NOTED_SECONDS, ANSWERED_SECONDS = 2.0, 6.0
# Each failure shortens that time by this many seconds, so that it ends soon if nothing is answered.
FAILURE_SECONDS = 1.0


def note_answer(connection: Connection, application_id: str, failures: int, now: Instant) -> None:
    """Note that an application answers. One failure among many responses does not count against the
    connection.

    Args:
        failures: the number of failures in a row when the attempt started.
    """
    stored.note_answer(connection, application_id, now, later(now, -NOTED_SECONDS))
    if failures >= NOT_ANSWERING:
        # The application answers again: tasks that waited only for it become due now.
        stored.wake_waiting(connection, application_id, now)


def note_trouble(
    connection: Connection,
    application_id: str,
    failures: int,
    trouble: ProvisioningError,
    exchanges: Exchanges,
    now: Instant,
) -> None:
    """Store what an error says about an application: it is paused, it fails and waits, or it answers."""
    row = stored.of_application(connection, application_id)
    values: dict[str, Any] = {}
    told = {"trouble": trouble.message, "trouble_hint": trouble.hint}
    if isinstance(trouble, ConnectionPausedError):
        values = {"paused_at": now, **told}
        if row.paused_at is None:
            events.note(events.PAUSE, "application", application=row.key, reason=trouble.message)
    elif isinstance(trouble, RetryableError):
        if trouble.counts and not _answers_otherwise(exchanges):
            values = {**_one_more(row, now), **told}
        if trouble.after is not None:
            values["retry_at"] = later(now, trouble.after)
        elif values.get("failures", 0) >= NOT_ANSWERING:
            values["retry_at"] = later(now, pause(values["failures"] - NOT_ANSWERING, LONGEST_PROBE_PAUSE))
    if values:
        application_rows.update_application(connection, application_id, **values)
    elif failures:
        note_answer(connection, application_id, failures, now)


def next_attempt(trouble: ProvisioningError, attempts: int, now: Instant) -> Instant | None:
    """Return when a task is retried automatically after an error; None if a retry would not help."""
    if isinstance(trouble, ConnectionPausedError):
        return now
    if isinstance(trouble, RetryableError):
        return later(now, max(trouble.after or 0.0, pause(attempts, LONGEST_PAUSE)))
    return None


def pause(attempts: int, longest: float) -> float:
    """Return the seconds to wait after a number of attempts: growing, with jitter, up to a maximum."""
    growing: float = FIRST_PAUSE * 2 ** min(attempts, 12)
    return min(longest, growing) * random.uniform(0.75, 1.25)


def _answers_otherwise(exchanges: Exchanges) -> bool:
    """Whether only one response was lost in an attempt to which the application answered: a problem of the
    task, not of the application.
    """
    return (
        bool(exchanges)
        and exchanges[-1]["status"] is None
        and any(each["status"] and each["status"] < 500 for each in exchanges)
    )


def _one_more(application: ConnectionHealth, now: Instant) -> dict[str, Any]:
    """Return what one more failure makes of an application: a failure in a row, or the problem of one task
    while others succeed.
    """
    if application.answered_at is not None and application.answered_at > later(now, -ANSWERED_SECONDS):
        return {"answered_at": later(application.answered_at, -FAILURE_SECONDS)}
    return {"failures": application.failures + 1}
