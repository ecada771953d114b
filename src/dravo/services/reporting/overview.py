"""The overview: for each stage of the work its numbers, and how many objects need an operator."""

from __future__ import annotations

from typing import Any

from sqlalchemy import func, select

from dravo.core.expiry import told_from
from dravo.core.instants import later
from dravo.services.context import AppContext
from dravo.services.sources.observations import PROBLEMS
from dravo.services.sources.sources import last_run, sign_in_needs, token_ends
from dravo.store import clock, groups
from dravo.store import tables as t


def band(ctx: AppContext) -> dict[str, Any]:
    """Return the numbers of each stage, and how many objects need an operator."""

    def count(table: Any, *where: Any) -> Any:
        return select(func.count()).select_from(table).where(*where).scalar_subquery()

    d, p = t.task.c, t.application.c
    open_failed = (d.closed_at.is_(None), d.status.in_(("failed", "held")))
    with ctx.database.reading() as connection:
        row = connection.execute(
            select(
                count(t.source).label("sources"),
                count(t.user, t.user.c.active.is_(False), t.user.c.left_at.is_(None)).label("inactive"),
                count(t.user, t.user.c.active.is_(True), t.user.c.left_at.is_(None)).label("active"),
                count(t.group, t.group.c.deleted_at.is_(None)).label("groups"),
                count(t.access, t.access.c.until_at.is_(None)).label("access"),
                count(t.pending_recompute).label("being_worked_out"),
                count(t.application).label("applications"),
                count(t.application, p.paused_at.is_not(None)).label("paused"),
                count(
                    t.application, p.secret.is_not(None), p.secret_expires_at < told_from(clock.now())
                ).label("ending"),
                count(t.seat, t.seat.c.until_at.is_(None), t.seat.c.from_at.is_(None)).label("seats"),
                count(t.drift, t.drift.c.status == "open").label("drifting"),
                count(t.task, d.closed_at.is_(None), d.status == "waiting").label("waiting"),
                count(t.task, *open_failed).label("failed"),
            )
        ).one()
        refused = connection.execute(
            select(func.count())
            .select_from(t.source_observation)
            .where(t.source_observation.c.what.in_(PROBLEMS), t.source_observation.c.last_at > _yesterday())
        ).scalar_one()
        unread = connection.execute(
            select(func.count())
            .select_from(t.source_import)
            .where(last_run(t.run.c.status, t.source_import.c.source_id).in_(("failed", "held")))
        ).scalar_one()
        ending = connection.execute(
            select(func.count()).select_from(t.source).where(token_ends(t.source.c.id).is_not(None))
        ).scalar_one()
        undecided = connection.execute(
            select(func.count()).select_from(t.conflict).where(t.conflict.c.status == "open")
        ).scalar_one()
        warning = connection.execute(
            select(func.count())
            .select_from(t.assignment)
            .join(t.group, t.group.c.id == t.assignment.c.group_id)
            .where(t.assignment.c.removed_at.is_(None), groups.reaches_nobody())
        ).scalar_one()
        s = t.source_sign_in.c
        signing_in = connection.execute(select(s.status, s.provider, s.waiting, s.trouble)).all()
        unwell = sum(1 for each in signing_in if any(sign_in_needs(*each).values()))
    return {
        "stages": [
            {
                "name": "sources",
                "count": row.sources,
                "needs": refused + unread + undecided + ending + unwell,
            },
            {"name": "users", "count": row.active + row.inactive, "needs": 0},
            {"name": "access", "count": row.access, "needs": warning},
            {
                "name": "applications",
                "count": row.applications,
                "needs": row.paused + row.drifting + row.seats + row.ending,
            },
            {"name": "tasks", "count": row.waiting, "needs": row.failed},
        ],
        "active_users": row.active,
        "groups": row.groups,
        "being_worked_out": row.being_worked_out,
    }


def _yesterday() -> str:
    return later(clock.now(), -86_400)
