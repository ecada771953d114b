"""What the worker does beside tasks: reconciliations, imports, counts, email and cleaning up."""

from __future__ import annotations

from concurrent.futures import Future, ThreadPoolExecutor

from dravo.core.instants import Instant, later
from dravo.services import settings
from dravo.services.access.reviews import reviews as access_reviews
from dravo.services.context import AppContext
from dravo.services.heartbeats import RUN
from dravo.services.imports import run as import_run
from dravo.services.imports import runs as import_runs
from dravo.services.notifications import announcements, events, messages
from dravo.services.provisioning import groups as provisioned_groups
from dravo.services.provisioning import queue as task_queue
from dravo.services.provisioning.client import ApplicationClient
from dravo.services.provisioning.drift import reconciliation
from dravo.services.reporting import access_flow, conditions
from dravo.services.scim_server import request_log
from dravo.services.sign_in import maintenance
from dravo.services.sign_in import traces as sign_in_traces
from dravo.store import clock
from dravo.store.notifications.messages import EMAIL, WEBHOOK
from dravo.worker.jobs import Jobs

# Number of concurrent imports.
CONCURRENT_IMPORTS = 3
# Seconds between looks for events to report.
REPORT_SECONDS = 5


class SideJobs:
    """Starts long work in threads of its own, so that no task waits for it."""

    def __init__(self, ctx: AppContext, jobs: Jobs, client: ApplicationClient) -> None:
        self.ctx = ctx
        self._jobs = jobs
        self._client = client
        self._reconciliations = ThreadPoolExecutor(1, thread_name_prefix="run")
        self._reconciliation: Future[None] | None = None
        # Running imports by source ID: one for each source at a time.
        self._imports = ThreadPoolExecutor(CONCURRENT_IMPORTS, thread_name_prefix="pull")
        self._running_imports: dict[str, Future[None]] = {}
        self._counting = ThreadPoolExecutor(1, thread_name_prefix="count")
        self._count: Future[None] | None = None
        self._count_at = clock.now()
        # A slow webhook does not keep emails waiting.
        self._channels = {
            channel: ThreadPoolExecutor(1, thread_name_prefix=channel) for channel in (EMAIL, WEBHOOK)
        }
        self._sent: dict[str, Future[int] | None] = {}
        self._reporting = ThreadPoolExecutor(1, thread_name_prefix="report")
        self._report: Future[int] | None = None
        self._report_at = clock.now()
        self._addresses: Future[None] | None = None

    def close(self) -> None:
        """End: counts and email are finished, reconciliations and imports resume after the next start."""
        self._reconciliations.shutdown(wait=False)
        self._imports.shutdown(wait=False, cancel_futures=True)
        self._counting.shutdown(wait=True)
        self._reporting.shutdown(wait=True)
        for pool in self._channels.values():
            pool.shutdown(wait=True)

    def sweep(self, now: Instant) -> None:
        """Delete old entries, and do what is done every few minutes."""
        ctx, do = self.ctx, self._jobs.do
        limits = do("settings", lambda: settings.get(ctx), None)
        if limits is not None:
            do(
                "old requests",
                lambda: request_log.sweep(
                    ctx.database, now, limits["trace_days"], limits["traces_per_source"]
                ),
                None,
            )
            do("old attempts", lambda: task_queue.sweep(ctx, now, limits["attempt_days"]), None)
            do("old runs", lambda: import_runs.sweep(ctx, now, limits["attempt_days"]), None)
            do("old messages", lambda: events.sweep(ctx, now, limits["message_days"]), None)
            do("old sign-in traces", lambda: sign_in_traces.sweep(ctx, now, limits["trace_days"]), None)
        do("expired sessions", lambda: maintenance.lapse(ctx, now), None)
        do("users without sign-in", lambda: maintenance.deactivate_idle(ctx, now), None)
        do("groups of pilots", lambda: provisioned_groups.wake_in_pilots(ctx, now), None)
        do("reviews past their due date", lambda: access_reviews.close_expired(ctx, now), None)
        if self._addresses is None or self._addresses.done():
            # Providers may answer slowly, so this runs in a thread of its own.
            self._addresses = self._imports.submit(
                do, "metadata addresses", lambda: maintenance.look_at_addresses(ctx, now), None
            )

    def start_reconciliation(self) -> None:
        """Start the next requested reconciliation, if none is in progress: one at a time, beside the
        tasks.
        """
        if not self._jobs.is_free("reconciliation", self._reconciliation, RUN):
            return
        if self._reconciliation is not None and self._reconciliation.exception() is not None:
            reconciliation.end_broken_off(
                self.ctx, "The attempt failed with an internal error.", "See the service log for details."
            )
        run_id = reconciliation.next_requested(self.ctx)
        self._reconciliation = (
            self._reconciliations.submit(reconciliation.carry_out, self.ctx, self._client, run_id)
            if run_id is not None
            else None
        )

    def start_imports(self) -> None:
        """Start requested import runs, in parallel for different sources."""
        for source_id, done in list(self._running_imports.items()):
            if done.done():
                if self._jobs.crashes("run", done, RUN):
                    import_runs.fail_interrupted(self.ctx, source_id)
                del self._running_imports[source_id]
        while (
            len(self._running_imports) < CONCURRENT_IMPORTS
            and (found := import_runs.next_requested(self.ctx, set(self._running_imports))) is not None
        ):
            run_id, source_id = found
            self._running_imports[source_id] = self._imports.submit(import_run.carry_out, self.ctx, run_id)

    def start_count(self, now: Instant) -> None:
        """Start counting for the flow picture, beside the tasks, if access changed."""
        if now < self._count_at or not self._jobs.is_free("counting", self._count):
            return
        self._count = None
        self._count_at = later(now, access_flow.LEAST_SECONDS)
        self._count = (
            self._counting.submit(access_flow.count, self.ctx) if access_flow.is_due(self.ctx, now) else None
        )

    def start_report(self, now: Instant) -> None:
        """Start looking for events to report, beside everything else."""
        if now < self._report_at or not self._jobs.is_free("events", self._report):
            return
        self._report_at = later(now, REPORT_SECONDS)
        self._report = self._reporting.submit(self._report_events, now)

    def _report_events(self, now: Instant) -> int:
        events.send_summaries(self.ctx, now)
        announcements.write_due(self.ctx, now)
        return events.report(self.ctx, conditions.current(self.ctx, now), now)

    def start_messages(self, now: Instant) -> None:
        """Start sending emails and webhook messages, beside everything else: a server may be slow."""
        for channel, pool in self._channels.items():
            if not self._jobs.is_free(f"messages by {channel}", self._sent.get(channel)):
                continue
            self._sent[channel] = None
            if messages.is_due(self.ctx, now, channel):
                self._sent[channel] = pool.submit(messages.send_due, self.ctx, now, channel)
