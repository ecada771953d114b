"""The status of provisioning: how much is pending, and waiting until nothing is."""

from __future__ import annotations

import time
from dataclasses import dataclass, replace

from dravo.services.context import AppContext
from dravo.services.lookups import application_by_key
from dravo.store.provisioning.tasks import UNKNOWN
from dravo.store.queries import seats as seat_queries
from dravo.store.queries.pending_work import TaskCounts, count_tasks

# Seconds between checks for new writes while a caller waits; a check costs almost nothing.
GLANCE_SECONDS = 0.05


@dataclass(frozen=True)
class ProvisioningSummary:
    """Counts of pending work, and whether Dravo has nothing left to do automatically."""

    counts: TaskCounts

    @property
    def settled(self) -> bool:
        """Whether no user is being recomputed and no task waits that Dravo processes automatically."""
        return self.counts.recomputing == 0 and self.counts.waiting == 0


@dataclass(frozen=True, kw_only=True)
class ShownSummary(TaskCounts):
    """Counts of pending work as the API shows them; `settled` if nothing is left to do automatically."""

    settled: bool


def summarize(ctx: AppContext, application: str | None = None, wait: float = 0.0) -> ProvisioningSummary:
    """Return the status of provisioning now, or as soon as nothing is pending.

    Args:
        application: the key of one application; None for all.
        wait: the seconds to wait until nothing is pending.

    Raises:
        NotFound: if the application does not exist.
    """
    end = time.monotonic() + wait
    with ctx.database.reading() as connection:
        application_id = (
            str(application_by_key(connection, application).id) if application is not None else None
        )
    while True:
        seen = ctx.database.commits_seen()
        with ctx.database.reading() as connection:
            counts = count_tasks(connection, application_id, UNKNOWN)
            # These users are about to be recomputed with their seats.
            counts = replace(counts, recomputing=counts.recomputing + seat_queries.due(connection))
            summary = ProvisioningSummary(counts)
        while not summary.settled and ctx.database.commits_seen() == seen and time.monotonic() < end:
            time.sleep(GLANCE_SECONDS)
        if summary.settled or time.monotonic() >= end:
            return summary
