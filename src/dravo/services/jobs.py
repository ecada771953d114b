"""Jobs: work that an operator waits for, such as a preview of all users, with progress and cancellation.

It lives in the process that answers them, for as long as they wait; only anyone who asked for it sees and
stops it.
"""

from __future__ import annotations

import threading
from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass

from dravo.core.errors import DravoError, NotFound


class JobStopped(DravoError):
    """Anyone who asked for it wanted it no longer."""

    code = "stopped"
    status = 409


class NameInUse(DravoError):
    """The same caller has other work of that name under way."""

    code = "work_name_in_use"
    status = 409


@dataclass
class Job:
    """Work under way: how many of how many users were looked at."""

    done: int = 0
    total: int = 0
    stopped: bool = False


_CURRENT: ContextVar[Job | None] = ContextVar("waited_for", default=None)


def report_progress(done: int, total: int) -> None:
    """Say how far the present work is.

    Raises:
        JobStopped: if anyone who waits for it does so no longer.
    """
    waited = _CURRENT.get()
    if waited is None:
        return
    if waited.stopped:
        raise JobStopped("The job was stopped. Nothing was changed.", "Start it again if you need it.")
    waited.done, waited.total = done, total


class JobRegistry:
    """All that is waited for in this process, by who asked and a name that they gave it."""

    def __init__(self) -> None:
        self._known: dict[tuple[str, str], Job] = {}
        self._lock = threading.Lock()

    @contextmanager
    def for_(self, who: str, name: str) -> Iterator[None]:
        """Have what is done within be known as work that an operator waits for.

        Raises:
            NameInUse: if the caller has other work of that name under way.
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
        """Return how far it is.

        Raises:
            NotFound: if it is not under way, or another user's.
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
