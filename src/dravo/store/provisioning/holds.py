"""Removals that wait for the removal limit, and held removals."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import ColumnElement, Connection, func, select, true, update

from dravo.core.instants import Instant
from dravo.store import tables as t
from dravo.store.queries.references import UserRef
from dravo.store.task_status import WAITING

CHUNK = 500


@dataclass(frozen=True)
class WaitingRemoval:
    """A removal that the removal limit has not judged yet."""

    id: str
    application_id: str
    user_id: str
    application_key: str


def _unjudged() -> tuple[ColumnElement[bool], ...]:
    d = t.task.c
    return d.status == WAITING, d.removes == true(), d.released_at.is_(None)


def has_waiting(connection: Connection) -> bool:
    """Return whether a removal waits for the removal limit."""
    return connection.execute(select(t.task.c.id).where(*_unjudged()).limit(1)).first() is not None


def are_others_marked(connection: Connection, set_aside: Sequence[str]) -> bool:
    """Return whether other users than some are marked to be recomputed."""
    p = t.pending_recompute.c
    statement = select(p.user_id).where(p.user_id.not_in(set_aside)).limit(1)
    return connection.execute(statement).first() is not None


def list_waiting(connection: Connection) -> list[WaitingRemoval]:
    """Return the removals that the removal limit has not judged yet."""
    d, p = t.task.c, t.application.c
    statement = (
        select(d.id, d.application_id, d.user_id, p.key)
        .join(t.application, p.id == d.application_id)
        .where(*_unjudged())
    )
    return [WaitingRemoval(*row) for row in connection.execute(statement)]


def update_waiting(connection: Connection, task_ids: Sequence[str], **values: Any) -> None:
    """Change columns of removals that are still not judged."""
    for start in range(0, len(task_ids), CHUNK):
        some = t.task.c.id.in_(task_ids[start : start + CHUNK])
        connection.execute(update(t.task).where(some, *_unjudged()).values(**values))


def _counted(since: Instant) -> tuple[ColumnElement[bool], ...]:
    """Return the conditions for removals in the window. Held ones count too, so that later ones are held as
    well.
    """
    d = t.task.c
    return (
        d.removes == true(),
        (d.released_at >= since) & d.released_by.is_(None) | d.held_at.is_not(None) & d.closed_at.is_(None),
    )


def number_in_window(connection: Connection, application_id: str, since: Instant) -> int:
    """Return how many removals of an application count in the window that began at an instant."""
    statement = select(func.count()).select_from(t.task)
    of_application = t.task.c.application_id == application_id
    return int(connection.execute(statement.where(of_application, *_counted(since))).scalar_one())


def users_in_window(connection: Connection, since: Instant) -> set[str]:
    """Return the IDs of users with a removal in the window that began at an instant."""
    return set(connection.execute(select(t.task.c.user_id).where(*_counted(since))).scalars())


def application_labels(connection: Connection) -> dict[str, str]:
    """Return the labels of all applications by ID."""
    p = t.application.c
    return {row.id: row.label for row in connection.execute(select(p.id, p.label))}


def source_labels(connection: Connection) -> dict[str, str]:
    """Return the labels of all sources by ID."""
    s = t.source.c
    return {row.id: row.label for row in connection.execute(select(s.id, s.label))}


def present_users(connection: Connection, source_id: str) -> set[str]:
    """Return the IDs of the users that a source reports."""
    r = t.record.c
    where = (r.source_id == source_id, r.deleted_at.is_(None))
    return set(connection.execute(select(r.user_id).where(*where)).scalars())


def users_of_source(connection: Connection, source_id: str, user_ids: Collection[str]) -> set[str]:
    """Return those of the given users that a source reports or reported."""
    r = t.record.c
    found: set[str] = set()
    wanted = sorted(user_ids)
    for start in range(0, len(wanted), CHUNK):
        some = r.user_id.in_(wanted[start : start + CHUNK])
        found.update(connection.execute(select(r.user_id).where(r.source_id == source_id, some)).scalars())
    return found


# Held removals


def _held() -> tuple[ColumnElement[bool], ...]:
    d = t.task.c
    return d.held_at.is_not(None), d.closed_at.is_(None)


@dataclass(frozen=True)
class HeldOfApplication:
    """The held removals of an application."""

    application_key: str
    application_label: str
    number: int
    since: Instant
    message: str | None


def list_held(connection: Connection) -> list[HeldOfApplication]:
    """Return the held removals by application."""
    d, p = t.task.c, t.application.c
    statement = (
        select(p.key, p.label, func.count(), func.min(d.created_at), func.max(d.message))
        .join(t.task, d.application_id == p.id)
        .where(*_held())
        .group_by(p.key, p.label)
        .order_by(p.label)
    )
    return [HeldOfApplication(*row) for row in connection.execute(statement)]


def held_users(connection: Connection, application_key: str, most: int) -> list[tuple[UserRef, str]]:
    """Return the first users with held removals in an application by name, each with the state to reach."""
    d, p, u = t.task.c, t.application.c, t.user.c
    statement = (
        select(u.id, u.display_name, u.user_name, d.desired_state)
        .join(t.task, d.user_id == u.id)
        .join(t.application, p.id == d.application_id)
        .where(p.key == application_key, *_held())
        .order_by(u.display_name_key)
        .limit(most)
    )
    return [(UserRef(*row[:3]), row.desired_state) for row in connection.execute(statement)]


def decide(connection: Connection, application_id: str, **values: Any) -> int:
    """Change columns of the held removals of an application; return their number."""
    held = (t.task.c.application_id == application_id, *_held())
    # An operator who approves a held removal approves the task, too.
    values["approved_version"] = t.task.c.version
    return connection.execute(update(t.task).where(*held).values(**values)).rowcount
