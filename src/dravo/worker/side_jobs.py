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
from dravo.services.notifications import mail_queue, waiting_deactivations
from dravo.services.provisioning import groups as provisioned_groups
from dravo.services.provisioning import queue as task_queue
from dravo.services.provisioning.client import ApplicationClient
from dravo.services.provisioning.drift import reconciliation
from dravo.services.reporting import access_flow
from dravo.services.scim_server import request_log
from dravo.services.sign_in import maintenance
from dravo.services.sign_in import traces as sign_in_traces
from dravo.store import clock
from dravo.worker.jobs import Jobs

# Number of concurrent imports.
CONCURRENT_IMPORTS = 3


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
        self._mail = ThreadPoolExecutor(1, thread_name_prefix="mail")
        self._sent: Future[int] | None = None
        self._addresses: Future[None] | None = None

    def close(self) -> None:
        """End: counts and email are finished, reconciliations and imports resume after the next start."""
        self._reconciliations.shutdown(wait=False)
        self._imports.shutdown(wait=False, cancel_futures=True)
        self._counting.shutdown(wait=True)
        self._mail.shutdown(wait=True)

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
            do("old sign-in traces", lambda: sign_in_traces.sweep(ctx, now, limits["trace_days"]), None)
        do("expired sessions", lambda: maintenance.lapse(ctx, now), None)
        do("users without sign-in", lambda: maintenance.deactivate_idle(ctx, now), None)
        do("notices of waiting deactivations", lambda: waiting_deactivations.notify(ctx, now), None)
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

    def start_mail(self, now: Instant) -> None:
        """Start sending email, beside everything else: an email server may be slow."""
        if not self._jobs.is_free("email", self._sent):
            return
        self._sent = None
        self._sent = (
            self._mail.submit(mail_queue.send_due, self.ctx, now)
            if mail_queue.is_due(self.ctx, now)
            else None
        )
