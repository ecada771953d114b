"""The worker's loop: finds work, gives it to threads within each application's rate, and repeats."""

from __future__ import annotations

import contextlib
import functools
import threading
import time
from collections import Counter, deque
from concurrent.futures import Future, ThreadPoolExecutor
from queue import Empty, SimpleQueue

import structlog

from dravo.core.errors import DravoError
from dravo.core.instants import Instant, later
from dravo.protocols.scim_client.responses import ProvisioningError
from dravo.services import events
from dravo.services.access import license_plans
from dravo.services.applications import status as application_status
from dravo.services.changes import recompute
from dravo.services.context import AppContext
from dravo.services.heartbeats import SETTLEMENT, SETTLEMENTS, TASK, WORK, Heartbeats
from dravo.services.imports import runs as import_runs
from dravo.services.ingest.inbound import policy_application
from dravo.services.ingest.inbound.stored_groups import StoredGroups
from dravo.services.policies import inbound
from dravo.services.provisioning import attempt, holds, managers
from dravo.services.provisioning import bulk as bulk_provisioning
from dravo.services.provisioning import groups as group_provisioning
from dravo.services.provisioning import queue as task_queue
from dravo.services.provisioning.attempt import AttemptResult
from dravo.services.provisioning.client import ApplicationClient
from dravo.services.provisioning.drift import reconciliation
from dravo.services.provisioning.queue import ReadyTask
from dravo.services.sign_in.settings import rollout
from dravo.store import clock, provisioned_groups
from dravo.store.task_status import DONE
from dravo.worker.jobs import Jobs, pause
from dravo.worker.side_jobs import SideJobs

THREADS = 16
# Number of tasks that are queued for an application beyond those that start at once.
AHEAD = 200
# Maximum number of results in one transaction.
AT_ONCE = 64
# Seconds before a task is retried after an internal error: longer each time.
BROKEN_SECONDS, BROKEN_SECONDS_AT_MOST = 10.0, 600.0
UNWRITTEN_SECONDS_AT_MOST = 60.0
# A file in the data folder, present if the worker finished its tasks before it ended.
ENDED_WELL = "worker-ended-well"
# Seconds between checks for new writes, between reads for tasks that are due by time, and between reads while
# enough tasks are queued.
GLANCE_SECONDS, LOOK_SECONDS, BUSY_SECONDS = 0.1, 0.5, 0.4
SWEEP_SECONDS = 600
# Seconds between checkpoints of the database.
CHECKPOINT_SECONDS = 60
# Seconds between heartbeats of the writing loop while it is idle.
SETTLER_SECONDS = 1.0

log = structlog.get_logger("worker")

# Tasks of one application that one thread carries out.
Batch = tuple[ReadyTask, ...]
# Their results, and whether the batch stays in progress until the results are written.
Written = tuple[Batch, list[AttemptResult], bool]


class Worker:
    """Does the background work of one data folder, until it is stopped."""

    def __init__(self, ctx: AppContext, heartbeats: Heartbeats | None = None) -> None:
        self.ctx = ctx
        self.heartbeats = heartbeats or Heartbeats()
        self._jobs = Jobs(self.heartbeats)
        self._set_aside = recompute.SetAside(self.heartbeats)
        self.talker = ApplicationClient(ctx)
        self._pool = ThreadPoolExecutor(THREADS, thread_name_prefix="task")
        self._side_jobs = SideJobs(ctx, self._jobs, self.talker)
        self._policies = policy_application.PolicyApplication(ctx.database, ctx.catalogue)
        self._stored_groups = StoredGroups(ctx.database, ctx.catalogue)
        self._lock = threading.Lock()
        self._in_hand: set[str] = set()
        # Number of internal errors in a row by account or group.
        self._broken: dict[str, int] = {}
        # Tasks in progress by application: all of them, and those of groups.
        self._busy: dict[str, int] = {}
        self._groups: dict[str, int] = {}
        # Queued tasks by application, and how many of them can be in progress.
        self._queued: dict[str, deque[ReadyTask]] = {}
        self._pace: dict[str, int] = {}
        # Applications whose groups wait for a thread.
        self._waiting_groups: set[str] = set()
        # Maximum number of changes in one request to the application.
        self._together: dict[str, int] = {}
        self._all_written = True
        # Number of failed writes in a row, and until when no request is sent because of them.
        self._unwritten, self._rests_until = 0, 0.0
        self._settlements: SimpleQueue[Written | None] = SimpleQueue()
        self._wake = threading.Event()
        # Time of the last read, and the commits that it had seen.
        self._looked, self._seen = 0.0, -1
        self._stopped = threading.Event()
        self._sweep_at = clock.now()
        self._checkpoint_at = later(clock.now(), CHECKPOINT_SECONDS)

    def run(self) -> None:
        """Work until `stop` is called; started work is finished.

        Raises:
            Exception: if the loop itself fails. The caller ends the process then, to be restarted.
        """
        log.info("worker started")
        settler = threading.Thread(target=self._settle, name="settler", daemon=True)
        settler.start()
        mark = self.ctx.folder / ENDED_WELL
        ended_well = mark.exists()
        if not ended_well:
            # The worker was killed or never ran: requests in progress may have been carried out.
            task_queue.mark_in_flight_unknown(self.ctx)
        mark.unlink(missing_ok=True)
        reconciliation.end_broken_off(self.ctx)
        import_runs.requeue_interrupted(self.ctx, ended_well=ended_well)
        woken = True
        while not self._stopped.is_set():
            self.heartbeats.beat(WORK)
            if not settler.is_alive():
                raise RuntimeError("the results of attempts are not written")
            more = False
            if woken or self._may_find_work():
                try:
                    more = self.look()
                except DravoError as wrong:
                    # The database was locked for long. Nothing is lost; it is read again.
                    log.warning("could not look for tasks", reason=str(wrong))
            woken = more or self._wake.wait(GLANCE_SECONDS)
            self._wake.clear()
        self._side_jobs.close()
        self._pool.shutdown(wait=True)
        self._settlements.put(None)
        settler.join()
        if self._all_written:
            mark.touch()
        self.talker.close()
        log.info("worker stopped")

    def stop(self) -> None:
        """Have the loop end soon."""
        self._stopped.set()
        self._wake.set()

    def _may_find_work(self) -> bool:
        """Whether to look for work: looking takes time from tasks, and is often in vain."""
        seconds = time.monotonic() - self._looked
        if seconds >= LOOK_SECONDS:
            return True
        with self._lock:
            queued = any(self._queued.values())
        return not (queued and seconds < BUSY_SECONDS) and self.ctx.database.commits_seen() != self._seen

    def look(self) -> bool:
        """Do immediate work, and start tasks.

        Returns:
            Whether there is more immediate work.
        """
        self._looked, self._seen = time.monotonic(), self.ctx.database.commits_seen()
        now, do = clock.now(), self._jobs.do
        if now >= self._sweep_at:
            self._sweep_at = later(now, SWEEP_SECONDS)
            self._side_jobs.sweep(now)
        if now >= self._checkpoint_at:
            self._checkpoint_at = later(now, CHECKPOINT_SECONDS)
            do("checkpoint", self.ctx.database.checkpoint, None)
        do("scheduled reconciliations", lambda: reconciliation.request_scheduled(self.ctx, now), None)
        do("scheduled import runs", lambda: import_runs.request_scheduled(self.ctx, now), None)
        do("scheduled sign-in activation", lambda: rollout.apply_scheduled_activation(self.ctx, now), None)
        do("scheduled source activation", lambda: inbound.apply_scheduled_activation(self.ctx, now), None)
        do("scheduled activation", lambda: application_status.apply_scheduled_activation(self.ctx, now), None)
        do("reconciliations", self._side_jobs.start_reconciliation, None)
        do("runs", self._side_jobs.start_imports, None)
        do("counting", lambda: self._side_jobs.start_count(now), None)
        do("events", lambda: self._side_jobs.start_report(now), None)
        do("messages", lambda: self._side_jobs.start_messages(now), None)
        do("due start and end dates", lambda: recompute.mark_due_changes(self.ctx, now), False)
        do("seats", lambda: license_plans.give_free_seats(self.ctx, now), None)
        do("waiting groups", self._stored_groups.settle_waiting, 0)
        applied = do("source policies", self._policies.apply_marked, 0)
        chunk = recompute.USERS_PER_CHUNK
        computed = do(
            "computing access", lambda: recompute.process_marks(self.ctx, chunk, self._set_aside), 0
        )
        more = applied >= policy_application.CHUNK or computed >= chunk
        more |= do("managers", lambda: managers.follow(self.ctx, now), 0) >= managers.CHUNK
        do("removals", lambda: holds.hold_removals(self.ctx, now, self._set_aside.users()), None)
        with self._lock:
            busy = {key: number + len(self._queued.get(key, ())) for key, number in self._busy.items()}
            in_hand = self._in_hand | {each.account_id for queue in self._queued.values() for each in queue}
        nothing: list[ReadyTask] = []
        chosen = do(
            "tasks", lambda: task_queue.ready(self.ctx, now, busy, in_hand, THREADS + AHEAD, AHEAD), nothing
        )
        with self._lock:
            for each in chosen:
                queue = self._queued.setdefault(each.application_id, deque())
                if not each.known and (queue or self._busy.get(each.application_id)):
                    continue
                queue.append(each)
                self._pace[each.application_id] = each.pace
                self._together[each.application_id] = each.together
            # Also applications that waited because others had taken all threads: nothing else returns to
            # them.
            queued = [application_id for application_id, queue in self._queued.items() if queue]
        for application_id in queued:
            self._go_on(application_id)
        do("groups", lambda: self._hand_out_groups(now), None)
        return more

    def _go_on(self, application_id: str) -> None:
        """Start queued tasks of an application, within its rate."""
        while True:
            with self._lock:
                queue = self._queued.get(application_id)
                busy = self._busy.get(application_id, 0)
                allowed = min(self._pace.get(application_id, 1), self._share(application_id))
                # Results that cannot be stored would cause the same requests again and again.
                rests = time.monotonic() < self._rests_until
                if (
                    not queue
                    or rests
                    or busy >= allowed
                    or sum(self._busy.values()) >= THREADS
                    or self._stopped.is_set()
                ):
                    return
                if self._settlements.qsize() >= AT_ONCE:
                    # Results that are not stored would have to be looked up again after a crash.
                    return
                # A task with an internal error runs alone, so that it stops no other task.
                together = 1 if queue[0].account_id in self._broken else self._together.get(application_id, 1)
                hand = tuple(queue.popleft() for _ in range(min(together, len(queue))))
                self._take(application_id, {each.account_id for each in hand}, is_group=False)
            future = self._pool.submit(self._carry_out, hand)
            future.add_done_callback(functools.partial(self._carried_out, hand))

    def _share(self, application_id: str) -> int:
        """Return how many threads an application may use, beside all others with waiting tasks; called with
        the lock.
        """
        active = {each for each, queue in self._queued.items() if queue} | {
            each for each, number in self._busy.items() if number
        }
        return max(1, THREADS // len(active | self._waiting_groups | {application_id}))

    def _carry_out(self, hand: Batch) -> list[AttemptResult]:
        if len(hand) > 1:
            return bulk_provisioning.carry_out_together(self.ctx, self.talker, [each.id for each in hand])
        settlement = attempt.carry_out(self.ctx, self.talker, hand[0].id)
        return [settlement] if settlement is not None else []

    def _carried_out(self, hand: Batch, done: Future[list[AttemptResult]]) -> None:
        wrong = done.exception()
        settlements = done.result() if wrong is None else []
        if not settlements:
            self._finished_hand(hand, set(), wrong, frees=True)
            return
        # After a success, the next tasks can start while the results are written; an error may mean that none
        # should start.
        well = not any(isinstance(each.went, ProvisioningError) for each in settlements)
        self._settlements.put((hand, settlements, not well))
        if well:
            with self._lock:
                self._busy[hand[0].application_id] -= 1
            self._go_on(hand[0].application_id)

    def _settle(self) -> None:
        """Write the results of all ended attempts in one transaction."""
        while True:
            self.heartbeats.beat(SETTLEMENTS)
            try:
                first = self._settlements.get(timeout=SETTLER_SECONDS)
            except Empty:
                continue
            if first is None:
                return
            together = [first]
            while (
                sum(len(settlements) for _, settlements, _ in together) < AT_ONCE
                and not self._settlements.empty()
            ):
                following = self._settlements.get()
                if following is None:
                    self._settlements.put(None)
                    break
                together.append(following)
            outcomes, wrong = self._write(together)
            for (hand, _, frees), own, failed in zip(together, outcomes, wrong, strict=True):
                self._finished_hand(hand, own, failed, frees=frees)

    def _write(self, together: list[Written]) -> tuple[list[set[str]], list[BaseException | None]]:
        """Write results of attempts; return their outcomes, and what prevented writing."""
        try:
            outcomes = attempt.write_together(
                [each for _, settlements, _ in together for each in settlements]
            )
        except DravoError as failed:
            # The database cannot be written now. Nothing is lost, because the next attempt reads the
            # application first.
            self._all_written = False
            self._unwritten += 1
            self._rests_until = time.monotonic() + pause(self._unwritten, longest=UNWRITTEN_SECONDS_AT_MOST)
            log.warning("attempts could not be written", reason=failed.message, times=self._unwritten)
            return [set() for _ in together], [failed for _ in together]
        except Exception as failed:  # noqa: BLE001 (anyone who lets go of the hand logs it)
            if len(together) > 1:
                # One result causes the error: each is written by itself, so that the others are stored.
                apart = [self._write([each]) for each in together]
                return [outcomes[0] for outcomes, _ in apart], [wrong[0] for _, wrong in apart]
            self._all_written = False
            self.heartbeats.count(SETTLEMENT)
            return [set()], [failed]
        self._unwritten = 0
        found: list[set[str]] = []
        counted: dict[str, Counter[str]] = {}
        for hand, settlements, _ in together:
            own, outcomes = outcomes[: len(settlements)], outcomes[len(settlements) :]
            found.append(set(own))
            counted.setdefault(hand[0].application_id, Counter()).update(own)
        self._note_tasks(counted)
        return found, [None for _ in together]

    def _note_tasks(self, counted: dict[str, Counter[str]]) -> None:
        """Log and count attempts by application; where its key cannot be read, by its ID."""
        keys: dict[str, str] = {}
        with contextlib.suppress(DravoError), self.ctx.database.reading() as connection:
            keys = {each.id: each.key for each in self.ctx.catalogue.get(connection).applications.values()}
        for application_id, outcomes in counted.items():
            events.note_tasks(keys.get(application_id, application_id), dict(outcomes))

    def _finished_hand(
        self, hand: Batch, outcomes: set[str], wrong: BaseException | None, *, frees: bool
    ) -> None:
        self._finished(
            hand[0].application_id,
            {each.account_id for each in hand},
            outcomes,
            wrong,
            is_group=False,
            frees=frees,
        )

    def _hand_out_groups(self, now: Instant) -> None:
        """Start provisioned groups, within each application's rate and share, if no task of its users is
        running.
        """
        if time.monotonic() < self._rests_until:
            return
        with self.ctx.database.reading() as connection:
            waiting = provisioned_groups.ready(connection, now)
        with self._lock:
            self._waiting_groups = {application_id for _, application_id, _ in waiting}
        for group_id, application_id, max_concurrency in waiting:
            with self._lock:
                busy, groups, known = (
                    self._busy.get(application_id, 0),
                    self._groups.get(application_id, 0),
                    group_id in self._in_hand,
                )
                room = sum(self._busy.values()) < THREADS and busy < self._share(application_id)
                fits = (
                    room
                    and busy == groups < max_concurrency
                    and not known
                    and not self._queued.get(application_id)
                )
                if fits:
                    self._take(application_id, {group_id}, is_group=True)
            if fits:
                future = self._pool.submit(group_provisioning.attempt, self.ctx, self.talker, group_id)
                future.add_done_callback(
                    lambda done, group=group_id, of=application_id: self._finished(  # type: ignore[misc]
                        of,
                        {group},
                        set() if done.exception() else {done.result()} - {None},
                        done.exception(),
                        is_group=True,
                    )
                )

    def _take(self, application_id: str, what: set[str], *, is_group: bool) -> None:
        """Count a task as running; called with the lock."""
        self._in_hand |= what
        self._busy[application_id] = self._busy.get(application_id, 0) + 1
        if is_group:
            self._groups[application_id] = self._groups.get(application_id, 0) + 1

    def _finished(
        self,
        application_id: str,
        what: set[str],
        outcomes: set[str],
        wrong: BaseException | None,
        *,
        is_group: bool,
        frees: bool = True,
    ) -> None:
        """Forget a finished task; `frees` tells whether it still counts as running."""
        if is_group and outcomes:
            self._note_tasks({application_id: Counter(outcomes)})
        if isinstance(wrong, DravoError):
            # The result could not be saved; see `_write`. The tasks themselves are fine.
            self._let_go_after(BROKEN_SECONDS, what)
        elif wrong is not None:
            self.heartbeats.count(TASK)
            log.error("a task failed unexpectedly", tasks=sorted(what), exc_info=wrong)
            with self._lock:
                self._broken.update({each: self._broken.get(each, 0) + 1 for each in what})
                times = max(self._broken[each] for each in what)
            self._let_go_after(pause(times, BROKEN_SECONDS, BROKEN_SECONDS_AT_MOST), what)
        with self._lock:
            if wrong is None:
                self._in_hand -= what
                for each in what & self._broken.keys():
                    del self._broken[each]
            if frees:
                self._busy[application_id] -= 1
            if is_group:
                self._groups[application_id] -= 1
            if wrong is not None or outcomes - {DONE}:
                # The application may be paused now: its queued tasks are checked again.
                self._queued.pop(application_id, None)
            few = len(self._queued.get(application_id, ())) < self._pace.get(
                application_id, 1
            ) * self._together.get(application_id, 1)
        self._go_on(application_id)
        if few:
            self._wake.set()

    def _let_go_after(self, seconds: float, what: set[str]) -> None:
        """Keep tasks from being tried for some seconds."""
        timer = threading.Timer(seconds, self._let_go, (what,))
        timer.daemon = True
        timer.start()

    def _let_go(self, what: set[str]) -> None:
        with self._lock:
            self._in_hand -= what
        self._wake.set()
