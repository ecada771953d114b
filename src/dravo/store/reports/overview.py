"""Numbers of the overview."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection, ScalarSelect, func, select

from dravo.core.instants import Instant
from dravo.store import groups
from dravo.store import tables as t
from dravo.store.sources import sources as source_queries


@dataclass(frozen=True)
class StageCounts:
    """Objects of each stage.

    Attributes:
        groups: without deleted ones.
        access: roles that users have now.
        pending_recompute: users whose access is to be recomputed.
        expiring_secrets: applications whose credentials expire soon.
        waiting_seats: users who wait for a seat of a license plan.
        drift: open differences.
        waiting, failed: open tasks that wait; that failed or are held.
        manual: tasks that operators carry out.
    """

    sources: int
    inactive_users: int
    active_users: int
    groups: int
    access: int
    pending_recompute: int
    applications: int
    paused: int
    expiring_secrets: int
    waiting_seats: int
    access_requests: int
    drift: int
    waiting: int
    failed: int
    manual: int


@dataclass(frozen=True)
class SourceNeeds:
    """How many sources, or objects of sources, need an operator.

    Attributes:
        problems: recent problems of inbound SCIM.
        failed_imports: sources whose last import run failed or is held.
        expiring_tokens: sources with a token in use that expires soon.
        conflicts: open conflicts.
        waiting_deactivations: disabled sources, or pilots, at which deactivations or deletions wait.
    """

    problems: int
    failed_imports: int
    expiring_tokens: int
    conflicts: int
    waiting_deactivations: int


@dataclass(frozen=True)
class SignInHealth:
    """What the sign-in of a source shows of its provider."""

    status: str
    provider: dict[str, Any] | None
    waiting: Any
    trouble: str | None


def stages(connection: Connection, secret_ends_before: Instant) -> StageCounts:
    """Count the objects of each stage."""

    def count(table: Any, *where: Any) -> ScalarSelect[int]:
        return select(func.count()).select_from(table).where(*where).scalar_subquery()

    u, d, p = t.user.c, t.task.c, t.application.c
    present, still_open = u.left_at.is_(None), d.closed_at.is_(None)
    numbers = {
        "sources": count(t.source),
        "inactive_users": count(t.user, u.active.is_(False), present),
        "active_users": count(t.user, u.active.is_(True), present),
        "groups": count(t.group, t.group.c.deleted_at.is_(None)),
        "access": count(t.access, t.access.c.until_at.is_(None)),
        "pending_recompute": count(t.pending_recompute),
        "applications": count(t.application),
        "paused": count(t.application, p.paused_at.is_not(None)),
        "expiring_secrets": count(
            t.application, p.secret.is_not(None), p.secret_expires_at < secret_ends_before
        ),
        "waiting_seats": count(t.seat, t.seat.c.until_at.is_(None), t.seat.c.from_at.is_(None)),
        "access_requests": count(t.access_request, t.access_request.c.status == "open"),
        "drift": count(t.drift, t.drift.c.status == "open"),
        "waiting": count(t.task, still_open, d.status == "waiting"),
        "failed": count(t.task, still_open, d.status.in_(("failed", "held"))),
        "manual": count(t.task, still_open, d.status == "manual"),
    }
    row = connection.execute(select(*(column.label(name) for name, column in numbers.items()))).one()
    return StageCounts(**row._asdict())


def source_needs(
    connection: Connection, problems: Sequence[str], since: Instant, token_ends: source_queries.TokenExpiry
) -> SourceNeeds:
    """Count what needs an operator at sources.

    Args:
        connection: the records.
        problems: the kinds of observations that are problems.
        since: problems after this time count.
        token_ends: which tokens are shown as expiring.
    """

    def count(table: Any, *where: Any) -> int:
        return int(connection.execute(select(func.count()).select_from(table).where(*where)).scalar_one())

    o = t.source_observation.c
    run_status = source_queries.last_run(t.run.c.status, t.source_import.c.source_id)
    return SourceNeeds(
        problems=count(t.source_observation, o.what.in_(problems), o.last_at > since),
        failed_imports=count(t.source_import, run_status.in_(("failed", "held"))),
        expiring_tokens=count(t.source, source_queries.token_ends(t.source.c.id, token_ends).is_not(None)),
        conflicts=count(t.conflict, t.conflict.c.status == "open"),
        waiting_deactivations=count(t.source, source_queries.waiting_ends(t.source.c.id) > 0),
    )


def unreached_group_assignments(connection: Connection) -> int:
    """Return the number of group assignments that reach nobody."""
    a = t.assignment.c
    return int(
        connection.execute(
            select(func.count())
            .select_from(t.assignment)
            .join(t.group, t.group.c.id == a.group_id)
            .where(a.removed_at.is_(None), groups.reaches_nobody())
        ).scalar_one()
    )


def sign_ins(connection: Connection) -> list[SignInHealth]:
    """Return how the sign-in of each source is."""
    s = t.source_sign_in.c
    statement = select(s.status, s.provider, s.waiting, s.trouble)
    return [SignInHealth(*row) for row in connection.execute(statement)]
