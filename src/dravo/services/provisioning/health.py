"""How an application answers as a whole: what an answer or a trouble says of it, and when something is tried
again.

Tasks of users and of groups both end here, so that one application is left alone, probed and taken up again
in one way.
"""

from __future__ import annotations

import random
from collections.abc import Mapping, Sequence
from typing import Any

from sqlalchemy import Connection, bindparam, or_, select, update

from dravo.core.instants import Instant, later
from dravo.protocols.scim_client.responses import ConnectionPausedError, ProvisioningError, RetryableError
from dravo.services import events
from dravo.store import tables as t
from dravo.store.plan_writer import WAITING
from dravo.store.prepared_statements import PreparedStatement

Exchanges = Sequence[Mapping[str, Any]]
FIRST_PAUSE, LONGEST_PAUSE = 1.0, 300.0
# After so many failures in a row an application counts as not answering: it is probed by one request at a
# time.
NOT_ANSWERING = 3
LONGEST_PROBE_PAUSE = 60.0
# That it answers is written down so often; for so long after that a failure says nothing about the
# application as a whole.
NOTED_SECONDS, ANSWERED_SECONDS = 2.0, 6.0
# Each failure takes so much off that time: where none is answered any more, it is soon over.
FAILURE_SECONDS = 1.0

_NOTE_ANSWER = PreparedStatement(
    update(t.application)
    .where(
        t.application.c.id == bindparam("application"),
        t.application.c.paused_at.is_(None),
        or_(
            t.application.c.failures > 0,
            t.application.c.answered_at.is_(None),
            t.application.c.answered_at < bindparam("stale"),
        ),
    )
    .values(failures=0, retry_at=None, answered_at=bindparam("at"), trouble=None, trouble_hint=None)
)


def note_answer(connection: Connection, application_id: str, failures: int, now: Instant) -> None:
    """Note that an application answers: one failure among many answers does not count towards its not
    answering.

    Args:
        failures: how many in a row there were when the attempt began.
    """
    _NOTE_ANSWER.change(
        connection, {"application": application_id, "stale": later(now, -NOTED_SECONDS), "at": now}
    )
    if failures >= NOT_ANSWERING:
        # It is back: those that only waited for it need not wait longer.
        for table in (t.task, t.provisioned_group):
            waiting = (
                table.c.application_id == application_id,
                table.c.status == WAITING,
                table.c.next_attempt_at > now,
            )
            connection.execute(update(table).where(*waiting).values(next_attempt_at=now))


def note_trouble(
    connection: Connection,
    application_id: str,
    failures: int,
    trouble: ProvisioningError,
    exchanges: Exchanges,
    now: Instant,
) -> None:
    """Write down what a trouble says of the application: paused, failing, to be left alone for a while; or
    that it answers.
    """
    p = t.application.c
    row = connection.execute(
        select(p.key, p.failures, p.answered_at, p.paused_at).where(p.id == application_id)
    ).one()
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
        connection.execute(update(t.application).where(p.id == application_id).values(**values))
    elif failures:
        note_answer(connection, application_id, failures, now)


def next_attempt(trouble: ProvisioningError, attempts: int, now: Instant) -> Instant | None:
    """Return when something is tried again by itself after a trouble; None if that would not help."""
    if isinstance(trouble, ConnectionPausedError):
        return now
    if isinstance(trouble, RetryableError):
        return later(now, max(trouble.after or 0.0, pause(attempts, LONGEST_PAUSE)))
    return None


def pause(attempts: int, longest: float) -> float:
    """Return how many seconds to wait after so many attempts: growing, with jitter, never longer than the
    longest.
    """
    growing: float = FIRST_PAUSE * 2 ** min(attempts, 12)
    return min(longest, growing) * random.uniform(0.75, 1.25)


def _answers_otherwise(exchanges: Exchanges) -> bool:
    """Whether only a reply was lost in an attempt in which the application had answered: then it is this
    one's trouble, not its.
    """
    return (
        bool(exchanges)
        and exchanges[-1]["status"] is None
        and any(each["status"] and each["status"] < 500 for each in exchanges)
    )


def _one_more(application: Any, now: Instant) -> dict[str, Any]:
    """Return what one more failure makes of an application: one in a row, or, while others are answered, one
    task's own trouble.
    """
    if application.answered_at is not None and application.answered_at > later(now, -ANSWERED_SECONDS):
        return {"answered_at": later(application.answered_at, -FAILURE_SECONDS)}
    return {"failures": application.failures + 1}
