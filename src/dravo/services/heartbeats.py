"""Heartbeats of the worker's loops, in memory that all processes of a service share.

`dravo.serving` creates the memory before it forks. The worker writes to it; the supervisor, `/readyz` and
`/metrics` read it.
"""

from __future__ import annotations

import mmap
import time

# The loop that starts tasks, and the loop that writes the results of attempts.
WORK, SETTLEMENTS = "work", "settlements"
LOOPS = (WORK, SETTLEMENTS)
# Where unexpected errors are counted.
JOB, USER, TASK, SETTLEMENT, RUN = "job", "user", "task", "settlement", "run"
KINDS = (JOB, USER, TASK, SETTLEMENT, RUN)
# Seconds without a heartbeat after which the service is not ready, and after which the worker is restarted.
LATE_SECONDS, LOST_SECONDS = 30.0, 300.0


class Heartbeats:
    """The time of each loop's last iteration, and counts of unexpected errors since the service started."""

    def __init__(self) -> None:
        # Anonymous memory: all processes forked from this one share it.
        self._memory = mmap.mmap(-1, 8 * (len(LOOPS) + len(KINDS)))
        self._numbers = memoryview(self._memory).cast("d")
        self.begin()

    def begin(self) -> None:
        """Start counting: the worker is being started."""
        for loop in LOOPS:
            self.beat(loop)

    def beat(self, loop: str) -> None:
        """Record an iteration of a loop."""
        # The clock of the machine, which is the same in every process.
        self._numbers[LOOPS.index(loop)] = time.monotonic()

    def ages(self) -> dict[str, float]:
        """Return the seconds since each loop's last iteration."""
        return {loop: max(0.0, time.monotonic() - self._numbers[place]) for place, loop in enumerate(LOOPS)}

    def late(self, seconds: float) -> list[str]:
        """Return the loops without an iteration for some seconds."""
        return [loop for loop, age in self.ages().items() if age > seconds]

    def count(self, kind: str) -> None:
        """Count an unexpected error.

        Only the worker counts; two errors at the same instant may count as one.
        """
        self._numbers[len(LOOPS) + KINDS.index(kind)] += 1

    def counts(self) -> dict[str, int]:
        """Return the number of unexpected errors of each kind."""
        return {kind: int(self._numbers[len(LOOPS) + place]) for place, kind in enumerate(KINDS)}
