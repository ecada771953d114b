"""Signs of life of the worker's loops, in memory that all processes of a service share.

`dravo.serving` makes them before it forks. The worker writes them, whoever asks reads them: the supervisor, `/readyz` and `/metrics`.
"""

from __future__ import annotations

import mmap
import time

# The loop that looks for work, and the one that writes down how attempts went.
WORK, SETTLEMENTS = "work", "settlements"
LOOPS = (WORK, SETTLEMENTS)
# What breaks off by a mistake of Dravo's own, and is counted.
JOB, USER, TASK, SETTLEMENT, RUN = "job", "user", "task", "settlement", "run"
KINDS = (JOB, USER, TASK, SETTLEMENT, RUN)
# From when on the service is not ready, and from when on the worker is taken for dead.
LATE_SECONDS, LOST_SECONDS = 30.0, 300.0


class Heartbeats:
    """When each loop came round last, and how much broke off since the service started."""

    def __init__(self) -> None:
        # Not a file's: every process that is forked from this one sees the same memory.
        self._memory = mmap.mmap(-1, 8 * (len(LOOPS) + len(KINDS)))
        self._numbers = memoryview(self._memory).cast("d")
        self.begin()

    def begin(self) -> None:
        """Count from now: the worker is being started."""
        for loop in LOOPS:
            self.beat(loop)

    def beat(self, loop: str) -> None:
        """Note that a loop came round."""
        # The clock of the machine, which is the same in every process.
        self._numbers[LOOPS.index(loop)] = time.monotonic()

    def ages(self) -> dict[str, float]:
        """Return for each loop how many seconds ago it came round."""
        return {loop: max(0.0, time.monotonic() - self._numbers[place]) for place, loop in enumerate(LOOPS)}

    def late(self, seconds: float) -> list[str]:
        """Return the loops that have not come round for so many seconds."""
        return [loop for loop, age in self.ages().items() if age > seconds]

    def count(self, kind: str) -> None:
        """Count something that broke off. The worker alone counts; two at the very same moment may count as one."""
        self._numbers[len(LOOPS) + KINDS.index(kind)] += 1

    def counts(self) -> dict[str, int]:
        """Return how many of each kind broke off."""
        return {kind: int(self._numbers[len(LOOPS) + place]) for place, kind in enumerate(KINDS)}
