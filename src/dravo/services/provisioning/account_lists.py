"""Lists of accounts of applications, shared by the attempts of a process."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Mapping
from typing import Any

from dravo.protocols.scim_client.listing import ResourceList
from dravo.protocols.scim_client.responses import RetryableError

# Seconds for which an account list can tell whether an account exists.
LIST_SECONDS = 30.0


# Number of deleted IDs that are remembered for a list; beyond it, the list is read again.
MOST_GONE = 10_000


class Lists:
    """Whole lists of an application's accounts or groups, read once for all threads."""

    def __init__(self) -> None:
        self._kept: dict[tuple[str, str], tuple[float, ResourceList | None]] = {}
        self._locks: dict[tuple[str, str], threading.Lock] = {}
        # Time and error of the last failed read.
        self._failed: dict[tuple[str, str], tuple[float, RetryableError]] = {}
        # Time since which earlier lists are out of date; and when accounts were deleted, or found to be
        # missing.
        self._spoilt: dict[tuple[str, str], float] = {}
        self._gone: dict[tuple[str, str], dict[str, float]] = {}
        self._lock = threading.Lock()

    def get(
        self,
        application_id: str,
        path: str,
        since: float,
        read: Callable[[], list[Mapping[str, Any]] | None] | None,
    ) -> ResourceList | None:
        """Return a list that was read after an instant of the monotonic clock; read it if necessary.

        Args:
            since: the earliest start of the reading.
            read: reads the list and returns None if that fails; without it, only a stored list is returned.
        """
        key, asked = (application_id, path), time.monotonic()
        with self._lock:
            turn = self._locks.setdefault(key, threading.Lock())
        with turn:
            began, kept = self._kept.get(key, (float("-inf"), None))
            with self._lock:
                spoilt = self._spoilt.get(key, float("-inf"))
            if began >= max(since, spoilt):
                return self._without_gone(key, began, kept)
            if read is None:
                return None
            failed_at, wrong = self._failed.get(key, (float("-inf"), None))
            if wrong is not None and failed_at >= asked:
                # Another thread has just tried.
                raise RetryableError(wrong.message, wrong.hint, wrong.after, counts=False)
            began = time.monotonic()
            try:
                found = read()
            except RetryableError as failing:
                self._failed[key] = time.monotonic(), failing
                raise
            self._kept[key] = (began, None if found is None else ResourceList(found))
            with self._lock:
                # It does not contain accounts that were missing before.
                self._gone[key] = {
                    remote_id: at for remote_id, at in self._gone.get(key, {}).items() if at >= began
                }
            return self._without_gone(key, began, self._kept[key][1])

    def forget(self, application_id: str, path: str, remote_id: str | None = None) -> None:
        """Remove an ID from the lists whose reading started before now.

        Args:
            remote_id: the ID; None if the affected IDs are unknown: the whole list is read again.
        """
        key, now = (application_id, path), time.monotonic()
        with self._lock:
            gone = self._gone.setdefault(key, {})
            if remote_id is None or len(gone) >= MOST_GONE:
                self._spoilt[key] = now
                # Another one, because attempts may still use the former with their list.
                self._gone[key] = {}
            else:
                gone[remote_id] = now

    def _without_gone(
        self, key: tuple[str, str], began: float, found: ResourceList | None
    ) -> ResourceList | None:
        with self._lock:
            gone = self._gone.setdefault(key, {})
        return None if found is None else found.without(gone, began)
