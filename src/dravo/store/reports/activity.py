"""Events of the timeline, each kind from its own table, newest first."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, Generic, TypeVar

from sqlalchemy import Connection, Select, Text, false, func, or_, select, type_coerce

from dravo.core.instants import Instant
from dravo.store import tables as t
from dravo.store.queries.runs import HELD, STOPPED
from dravo.store.task_status import DONE, FAILED

E = TypeVar("E")


@dataclass(frozen=True)
class EventFilter:
    """Which events to list; None for all.

    Attributes:
        source_id, application_id, user_id: only events that concern them.
        trouble: only errors and refusals.
        until: only events before this instant.
    """

    source_id: str | None = None
    application_id: str | None = None
    user_id: str | None = None
    trouble: bool = False
    until: Instant | None = None


@dataclass(frozen=True)
class RequestEvent:
    """An inbound SCIM request; `key` and `label` are those of its source."""

    method: str
    path: str
    status: int
    outcome: str
    effects: dict[str, Any] | None
    key: str
    label: str


@dataclass(frozen=True)
class AttemptEvent:
    """An attempt of a task.

    Attributes:
        task_id: the task; `desired_state` in words and `desired_version` are those of now.
        version: the version that the attempt sent.
        key, label: those of the application.
    """

    outcome: str
    message: str | None
    task_id: str
    desired_state: str
    desired_version: int
    version: int
    user_id: str
    display_name: str
    key: str
    label: str


@dataclass(frozen=True)
class RunEvent:
    """A reconciliation or an import run; `key` and `label` are those of the application or the source."""

    status: str
    requested_by: str
    counts: dict[str, int] | None
    message: str | None
    progress: int
    ended_at: Instant | None
    preview: bool | None
    key: str
    label: str


@dataclass(frozen=True)
class ChangeEvent:
    """A change by an operator; the names of the source or the application if it is the changed object."""

    operator_name: str
    action: str
    object_kind: str
    object_id: str
    details: dict[str, Any]
    personal: dict[str, Any] | None
    source_key: str | None
    source_label: str | None
    application_key: str | None
    application_label: str | None


@dataclass(frozen=True)
class ListedEvent(Generic[E]):
    """An event with its key, by which the events of its kind are sorted, and its time."""

    key: str | int
    at: Instant
    event: E


@dataclass(frozen=True)
class Events(Generic[E]):
    """The events of one kind that a filter selects."""

    _statement: Select[Any]
    _key: Any
    _at: Any
    _kind: Callable[..., E]

    def newest(self, connection: Connection, before: str | int, limit: int) -> list[ListedEvent[E]]:
        """Return events by descending key.

        Args:
            connection: the records.
            before: only events with a lower key; "" for all.
            limit: the largest number.
        """
        statement = self._statement.add_columns(self._key, self._at)
        if before != "":
            statement = statement.where(self._key < before)
        rows = connection.execute(statement.order_by(self._key.desc()).limit(limit))
        return [ListedEvent(row[-2], row[-1], self._kind(*row[:-2])) for row in rows]

    def number(self, connection: Connection) -> int:
        """Return the number of events."""
        counted = select(func.count()).select_from(self._statement.subquery())
        return int(connection.execute(counted).scalar_one())


def _events(
    statement: Select[Any], key: Any, at: Any, kind: Callable[..., E], until: Instant | None
) -> Events[E]:
    return Events(statement if until is None else statement.where(at < until), key, at, kind)


def requests(wanted: EventFilter) -> Events[RequestEvent]:
    """Return the inbound SCIM requests that a filter selects."""
    c, s = t.trace.c, t.source.c
    statement = select(c.method, c.path, c.status, c.outcome, c.effects, s.key, s.label).join(
        t.source, s.id == c.source_id
    )
    if wanted.source_id is not None:
        statement = statement.where(c.source_id == wanted.source_id)
    if wanted.user_id is not None:
        statement = statement.where(
            type_coerce(c.effects, Text).contains(f'"{wanted.user_id}"', autoescape=True)
        )
    if wanted.trouble:
        statement = statement.where(c.status >= 400)
    return _events(statement, c.id, c.at, RequestEvent, wanted.until)


def attempts(wanted: EventFilter) -> Events[AttemptEvent]:
    """Return the attempts of tasks that a filter selects."""
    x, d, u, p = t.task_attempt.c, t.task.c, t.user.c, t.application.c
    task = (d.id, d.desired_state, d.version)
    statement = (
        select(x.outcome, x.message, *task, x.version, d.user_id, u.display_name, p.key, p.label)
        .join(t.task, d.id == x.task_id)
        .join(t.user, u.id == d.user_id)
        .join(t.application, p.id == d.application_id)
    )
    if wanted.application_id is not None:
        statement = statement.where(d.application_id == wanted.application_id)
    if wanted.user_id is not None:
        statement = statement.where(d.user_id == wanted.user_id)
    if wanted.trouble:
        statement = statement.where(x.outcome != DONE)
    return _events(statement, x.id, x.ended_at, AttemptEvent, wanted.until)


def reconciliations(wanted: EventFilter) -> Events[RunEvent]:
    """Return the reconciliations that a filter selects."""
    r, p = t.run.c, t.application.c
    run = (r.status, r.requested_by, r.counts, r.message, r.progress, r.ended_at, r.preview)
    statement = select(*run, p.key, p.label).join(t.application, p.id == r.application_id)
    if wanted.application_id is not None:
        statement = statement.where(r.application_id == wanted.application_id)
    if wanted.trouble:
        statement = statement.where(r.status.in_((FAILED, STOPPED)))
    return _events(statement, r.id, func.coalesce(r.ended_at, r.requested_at), RunEvent, wanted.until)


def import_runs(wanted: EventFilter) -> Events[RunEvent]:
    """Return the import runs that a filter selects."""
    r, s = t.run.c, t.source.c
    run = (r.status, r.requested_by, r.counts, r.message, r.progress, r.ended_at, r.preview)
    statement = select(*run, s.key, s.label).join(t.source, s.id == r.source_id)
    if wanted.source_id is not None:
        statement = statement.where(r.source_id == wanted.source_id)
    if wanted.trouble:
        statement = statement.where(r.status.in_((FAILED, HELD, STOPPED)))
    return _events(statement, r.id, func.coalesce(r.ended_at, r.requested_at), RunEvent, wanted.until)


def changes(wanted: EventFilter) -> Events[ChangeEvent]:
    """Return the changes by operators that a filter selects."""
    c, s, p = t.audit.c, t.source.c, t.application.c
    change = (c.operator_name, c.action, c.object_kind, c.object_id, c.details, c.personal)
    statement = (
        select(*change, s.key, s.label, p.key, p.label)
        .outerjoin(t.source, s.id == c.object_id)
        .outerjoin(t.application, p.id == c.object_id)
    )
    if wanted.source_id is not None:
        statement = statement.where(c.object_id == wanted.source_id)
    if wanted.application_id is not None:
        statement = statement.where(
            or_(
                c.object_id == wanted.application_id,
                *(
                    c.object_id.in_(select(each.c.id).where(each.c.application_id == wanted.application_id))
                    for each in (t.assignment, t.account, t.task, t.provisioned_group, t.access_request)
                ),
            )
        )
    if wanted.user_id is not None:
        of_user = (
            c.object_id.in_(select(each.c.id).where(each.c.user_id == wanted.user_id))
            for each in (t.assignment, t.account, t.task, t.access_request)
        )
        statement = statement.where(or_(false(), c.object_id == wanted.user_id, *of_user))
    return _events(statement, c.id, c.at, ChangeEvent, wanted.until)
