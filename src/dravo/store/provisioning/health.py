"""What is stored of the health of an application's connection."""

from __future__ import annotations

from dataclasses import dataclass

from sqlalchemy import Connection, bindparam, or_, select, update

from dravo.core.instants import Instant
from dravo.store import tables as t
from dravo.store.prepared_statements import PreparedStatement
from dravo.store.task_status import WAITING

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


@dataclass(frozen=True)
class ConnectionHealth:
    """The health of an application's connection: failures in a row, the last answer, the pause."""

    key: str
    failures: int
    answered_at: Instant | None
    paused_at: Instant | None


def of_application(connection: Connection, application_id: str) -> ConnectionHealth:
    """Return the health of an application, which exists."""
    p = t.application.c
    statement = select(p.key, p.failures, p.answered_at, p.paused_at).where(p.id == application_id)
    return ConnectionHealth(*connection.execute(statement).one())


def note_answer(connection: Connection, application_id: str, now: Instant, stale: Instant) -> None:
    """Note that an application answers, if it failed before or its last answer is older than an instant."""
    _NOTE_ANSWER.change(connection, {"application": application_id, "stale": stale, "at": now})


def wake_waiting(connection: Connection, application_id: str, now: Instant) -> None:
    """Have all waiting tasks and groups of an application be tried now."""
    for table in (t.task, t.provisioned_group):
        waiting = (
            table.c.application_id == application_id,
            table.c.status == WAITING,
            table.c.next_attempt_at > now,
        )
        connection.execute(update(table).where(*waiting).values(next_attempt_at=now))
