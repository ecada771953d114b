"""The worker's loop: looks for what is to be done, hands it to threads within each application's pace, and looks again."""

from __future__ import annotations

import threading
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor

import structlog

from dravo.core.errors import DravoError
from dravo.core.instants import Instant, later
from dravo.services import delivering, group_delivering, recalculating, settings, tracing
from dravo.services.house import House
from dravo.services.talking import Talker
from dravo.store import clock, groups_over

THREADS = 16
LOOK_SECONDS = 0.1
SWEEP_SECONDS = 600

log = structlog.get_logger("worker")


class Worker:
    """Does what is due in one data folder, until it is stopped."""

    def __init__(self, house: House) -> None:
        self.house = house
        self.talker = Talker(house)
        self._pool = ThreadPoolExecutor(THREADS, thread_name_prefix="delivery")
        self._lock = threading.Lock()
        self._in_hand: set[str] = set()
        # Under way for each application: all, and of them groups.
        self._busy: dict[str, int] = {}
        self._groups: dict[str, int] = {}
        self._wake = threading.Event()
        self._stopped = threading.Event()
        self._sweep_at = clock.now()

    def run(self) -> None:
        """Work until `stop` is called; what is under way then is finished."""
        log.info("worker started")
        delivering.begin_anew(self.house)
        while not self._stopped.is_set():
            try:
                handed = self.look()
            except DravoError as wrong:
                # The records were locked for long; nothing is lost, it is looked at again.
                log.warning("could not look for work", reason=str(wrong))
                handed = 0
            if not handed:
                self._wake.wait(LOOK_SECONDS)
            self._wake.clear()
        self._pool.shutdown(wait=True)
        self.talker.close()
        log.info("worker stopped")

    def stop(self) -> None:
        """Have the loop end soon."""
        self._stopped.set()
        self._wake.set()

    def look(self) -> int:
        """Do what can be done at once, and hand out deliveries.

        Returns:
            How many deliveries were handed out.
        """
        now = clock.now()
        if now >= self._sweep_at:
            self._sweep_at = later(now, SWEEP_SECONDS)
            kept = settings.get(self.house)
            tracing.sweep(self.house.database, now, kept["trace_days"], kept["traces_per_source"])
            delivering.sweep(self.house, now, kept["attempt_days"])
        recalculating.mark_those_whose_time_has_come(self.house, now)
        recalculating.work_through(self.house, recalculating.CHUNK)
        with self._lock:
            busy, in_hand = dict(self._busy), set(self._in_hand)
        free = THREADS - len(in_hand)
        if free <= 0:
            return 0
        chosen = delivering.ready(self.house, now, busy, in_hand, free)
        for each in chosen:
            self._hand_out(each.application_id, each.account_id, delivering.attempt, each.id)
        return len(chosen) + self._hand_out_groups(now, free - len(chosen))

    def _hand_out_groups(self, now: Instant, free: int) -> int:
        """Hand out groups, within each application's pace, when none of its people is under way."""
        handed = 0
        if free > 0:
            with self.house.database.reading() as connection:
                waiting = groups_over.ready(connection, now)
            for group_id, application_id, at_a_time in waiting:
                with self._lock:
                    busy, groups, known = self._busy.get(application_id, 0), self._groups.get(application_id, 0), group_id in self._in_hand
                if handed < free and busy == groups < at_a_time and not known:
                    self._hand_out(application_id, group_id, group_delivering.attempt, group_id)
                    handed += 1
        return handed

    def _hand_out(self, application_id: str, what: str, attempt: Callable[[House, Talker, str], str | None], identifier: str) -> None:
        with self._lock:
            self._in_hand.add(what)
            self._busy[application_id] = self._busy.get(application_id, 0) + 1
            if what == identifier:
                self._groups[application_id] = self._groups.get(application_id, 0) + 1
        future = self._pool.submit(attempt, self.house, self.talker, identifier)
        future.add_done_callback(lambda done: self._finished(application_id, what, done, is_group=what == identifier))

    def _finished(self, application_id: str, what: str, done: Future[str | None], *, is_group: bool) -> None:
        with self._lock:
            self._in_hand.discard(what)
            self._busy[application_id] -= 1
            if is_group:
                self._groups[application_id] -= 1
        wrong = done.exception()
        if wrong is not None:
            log.error("a delivery broke off", delivery=what, exc_info=wrong)
        self._wake.set()
