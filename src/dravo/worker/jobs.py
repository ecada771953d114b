"""Runs the worker's jobs one by one: an error in one job does not stop the others."""

from __future__ import annotations

import time
from collections.abc import Callable
from concurrent.futures import Future
from typing import Any, TypeVar

import structlog

from dravo.core.errors import DravoError
from dravo.services.heartbeats import JOB, Heartbeats

# Pause after a job's first error; it doubles with each further error, up to the second number.
FIRST_SECONDS, LONGEST_SECONDS = 1.0, 300.0

log = structlog.get_logger("worker")

T = TypeVar("T")


def pause(times: int, first: float = FIRST_SECONDS, longest: float = LONGEST_SECONDS) -> float:
    """Return the seconds to wait after a number of errors in a row."""
    return min(longest, first * 2.0 ** min(times - 1, 30))


class Jobs:
    """Runs jobs, and pauses those that fail."""

    def __init__(self, heartbeats: Heartbeats) -> None:
        self._heartbeats = heartbeats
        # By job: the number of errors in a row, and until when it pauses.
        self._broken: dict[str, tuple[int, float]] = {}
        # By job: the failed future that is already in the log.
        self._told: dict[str, Future[Any]] = {}

    def do(self, name: str, work: Callable[[], T], otherwise: T) -> T:
        """Run a job and return its result; `otherwise` if it fails or pauses after an error."""
        times, until = self._broken.get(name, (0, 0.0))
        if time.monotonic() < until:
            return otherwise
        try:
            given = work()
        except DravoError as wrong:
            # The database cannot be read or written now. Nothing is lost; the job runs again later.
            self._rest(name, times + 1)
            log.warning("a job failed", job=name, reason=wrong.message)
            return otherwise
        except Exception:
            self._rest(name, times + 1)
            self._heartbeats.count(JOB)
            log.exception("a job failed unexpectedly", job=name)
            return otherwise
        self._broken.pop(name, None)
        return given

    def is_free(self, name: str, future: Future[Any] | None, kind: str = JOB) -> bool:
        """Whether a background job may start again: the last one has ended, and its pause after an error is
        over.
        """
        # Counted separately from the job that starts it, which succeeds in any case.
        background = f"{name} in the background"
        times, until = self._broken.get(background, (0, 0.0))
        if future is None:
            return time.monotonic() >= until
        if not future.done():
            return False
        if not self.crashes(name, future, kind):
            self._broken.pop(background, None)
            return True
        if self._told.get(name) is not future:
            self._told[name] = future
            self._rest(background, times + 1)
            return False
        return time.monotonic() >= until

    def crashes(self, name: str, future: Future[Any], kind: str = JOB) -> bool:
        """Whether an ended background job failed; logs and counts the error once."""
        if future.cancelled() or (wrong := future.exception()) is None:
            return False
        if self._told.get(name) is future:
            return True
        if isinstance(wrong, DravoError):
            log.warning("a job failed", job=name, reason=wrong.message)
        else:
            self._heartbeats.count(kind)
            log.error("a job failed unexpectedly", job=name, exc_info=wrong)
        return True

    def _rest(self, name: str, times: int) -> None:
        self._broken[name] = times, time.monotonic() + pause(times)
