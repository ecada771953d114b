"""The overview: for each stage of the work its numbers, and how many objects need an operator."""

from __future__ import annotations

from dataclasses import dataclass

from dravo.core.expiry import told_from
from dravo.core.instants import later
from dravo.services.context import AppContext
from dravo.services.sources.observations import PROBLEMS
from dravo.services.sources.sources import SignInNeeds, sign_in_needs, token_expiry
from dravo.store import clock
from dravo.store.reports import overview as stored


@dataclass
class PipelineStage:
    """The numbers of one stage."""

    name: str
    count: int
    needs: int


@dataclass
class Overview:
    """The numbers of all stages."""

    stages: list[PipelineStage]
    active_users: int
    groups: int
    being_recomputed: int


def band(ctx: AppContext) -> Overview:
    """Return the numbers of each stage, and how many objects need an operator."""

    now = clock.now()
    with ctx.database.reading() as connection:
        row = stored.stages(connection, told_from(now))
        sources = stored.source_needs(connection, PROBLEMS, later(now, -86_400), token_expiry(now))
        unreached = stored.unreached_group_assignments(connection)
        sign_ins = stored.sign_ins(connection)
    failing = sum(
        sign_in_needs(each.status, each.provider, each.waiting, each.trouble) != SignInNeeds()
        for each in sign_ins
    )
    of_sources = (
        sources.problems
        + sources.failed_imports
        + sources.conflicts
        + sources.expiring_tokens
        + sources.waiting_deactivations
        + failing
    )
    return Overview(
        stages=[
            PipelineStage(name="sources", count=row.sources, needs=of_sources),
            PipelineStage(name="users", count=row.active_users + row.inactive_users, needs=0),
            PipelineStage(name="access", count=row.access, needs=unreached + row.access_requests),
            PipelineStage(
                name="applications",
                count=row.applications,
                needs=row.paused + row.drift + row.waiting_seats + row.expiring_secrets,
            ),
            PipelineStage(name="tasks", count=row.waiting, needs=row.failed + row.manual),
        ],
        active_users=row.active_users,
        groups=row.groups,
        being_recomputed=row.pending_recompute,
    )
