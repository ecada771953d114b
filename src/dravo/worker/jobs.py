"""The jobs of one look: each is done by itself, so that one that breaks off keeps none of the others from being done."""

from __future__ import annotations

import time
from collections.abc import Callable
from concurrent.futures import Future
from typing import Any, TypeVar

import structlog

from dravo.core.errors import DravoError
from dravo.services.heartbeats import JOB, Heartbeats

# How long a job that broke off is left alone: longer each time, up to the second number.
FIRST_SECONDS, LONGEST_SECONDS = 1.0, 300.0

log = structlog.get_logger("worker")

T = TypeVar("T")


def pause(times: int, first: float = FIRST_SECONDS, longest: float = LONGEST_SECONDS) -> float:
    """Return for how many seconds something is left alone that broke off so many times in a row."""
    return min(longest, first * 2.0 ** min(times - 1, 30))


class Jobs:
    """Does jobs, and leaves those alone for a while that broke off."""

    def __init__(self, heartbeats: Heartbeats) -> None:
        self._heartbeats = heartbeats
        # By name: how often it broke off in a row, and until when it is left alone.
        self._broken: dict[str, tuple[int, float]] = {}
        # By name what was begun beside the loop and broke off, once that is told.
        self._told: dict[str, Future[Any]] = {}

    def do(self, name: str, work: Callable[[], T], otherwise: T) -> T:
        """Do a job and return what it gives; `otherwise` if it broke off, or did shortly before."""
        times, until = self._broken.get(name, (0, 0.0))
        if time.monotonic() < until:
            return otherwise
        try:
            given = work()
        except DravoError as wrong:
            # The records cannot be read or written now; nothing is lost, it is done later.
            self._rest(name, times + 1)
            log.warning("a job could not be done", job=name, reason=wrong.message)
            return otherwise
        except Exception:
            self._rest(name, times + 1)
            self._heartbeats.count(JOB)
            log.exception("a job broke off", job=name)
            return otherwise
        self._broken.pop(name, None)
        return given

    def is_free(self, name: str, future: Future[Any] | None, kind: str = JOB) -> bool:
        """Whether what is done beside the loop may begin anew: what was begun before is over, and if it broke off, some time has passed."""
        times, until = self._broken.get(name, (0, 0.0))
        if future is None:
            return time.monotonic() >= until
        if not future.done():
            return False
        if not self.broke_off(name, future, kind):
            self._broken.pop(name, None)
            return True
        if self._told.get(name) is not future:
            self._told[name] = future
            self._rest(name, times + 1)
            return False
        return time.monotonic() >= until

    def broke_off(self, name: str, future: Future[Any], kind: str = JOB) -> bool:
        """Whether what was begun beside the loop, and is over, broke off; logs and counts that once."""
        if future.cancelled() or (wrong := future.exception()) is None:
            return False
        if self._told.get(name) is not future:
            self._heartbeats.count(kind)
            log.error("a job broke off", job=name, exc_info=wrong)
        return True

    def _rest(self, name: str, times: int) -> None:
        self._broken[name] = times, time.monotonic() + pause(times)
