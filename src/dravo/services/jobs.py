"""Jobs: work that an operator waits for, such as a preview of all users, with progress and cancellation.

A job lives in the process that carries it out, as long as the operator waits. Only the operator who started
it sees and stops it.
"""

from __future__ import annotations

import threading
from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass

from dravo.core.errors import DravoError, NotFound


class JobStopped(DravoError):
    """The operator stopped the job."""

    code = "stopped"
    status = 409


class NameInUse(DravoError):
    """The caller has another job with this name."""

    code = "work_name_in_use"
    status = 409


@dataclass
class Job:
    """A job in progress: how many of how many users are done."""

    done: int = 0
    total: int = 0
    stopped: bool = False


_CURRENT: ContextVar[Job | None] = ContextVar("waited_for", default=None)


def report_progress(done: int, total: int) -> None:
    """Report the progress of the current job.

    Raises:
        JobStopped: if the operator stopped it.
    """
    waited = _CURRENT.get()
    if waited is None:
        return
    if waited.stopped:
        raise JobStopped("The job was stopped. Nothing was changed.", "Start it again if you need it.")
    waited.done, waited.total = done, total


class JobRegistry:
    """The jobs of this process, by operator and name."""

    def __init__(self) -> None:
        self._known: dict[tuple[str, str], Job] = {}
        self._lock = threading.Lock()

    @contextmanager
    def for_(self, who: str, name: str) -> Iterator[None]:
        """Register the work within as a job.

        Raises:
            NameInUse: if the caller has another job with this name.
        """
        waited = Job()
        with self._lock:
            if (who, name) in self._known:
                raise NameInUse(
                    f"A job with the name '{name}' is running.", "Send another name in the header Dravo-Job."
                )
            self._known[who, name] = waited
        token = _CURRENT.set(waited)
        try:
            yield
        finally:
            _CURRENT.reset(token)
            with self._lock:
                self._known.pop((who, name), None)

    def get(self, who: str, name: str) -> Job:
        """Return the progress of a job.

        Raises:
            NotFound: for an unknown job, or one of another operator.
        """
        with self._lock:
            found = self._known.get((who, name))
        if found is None:
            raise NotFound("No job with this name is running.", "The job has ended or was never started.")
        return found

    def stop(self, who: str, name: str) -> None:
        """Have it end soon.

        Raises:
            NotFound: as `get`.
        """
        self.get(who, name).stopped = True
