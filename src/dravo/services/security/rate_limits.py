"""Rate limits: failures or requests of one name or address within a time.

The library `limits` counts them in memory.
"""

from __future__ import annotations

import threading

from limits import RateLimitItemPerSecond
from limits.storage import MemoryStorage
from limits.strategies import MovingWindowRateLimiter

from dravo.core.errors import TooManyTries

# Maximum number of names and addresses; beyond it, the one that was counted longest ago is dropped.
REMEMBERED = 10_000


class RateLimiter:
    """Counts failures or requests by name, and refuses names with too many within a time.

    Args:
        most: the largest number.
        seconds: the time.
    """

    def __init__(self, most: int, seconds: int) -> None:
        self.most, self.seconds = most, seconds
        self._item = RateLimitItemPerSecond(most, seconds)
        self._window = MovingWindowRateLimiter(MemoryStorage())
        # In the order of their last count.
        self._names: dict[str, None] = {}
        self._lock = threading.Lock()

    def check(self, *names: str) -> None:
        """Refuse names of which one has too many failures or requests.

        Raises:
            TooManyTries.
        """
        if not all(self._window.test(self._item, name) for name in names):
            raise self._too_many()

    def failed(self, *names: str) -> None:
        """Count a failure of each name."""
        for name in names:
            self._count(name)

    def hit(self, name: str) -> None:
        """Count a request of a name.

        Raises:
            TooManyTries: if it has had too many.
        """
        if not self._count(name):
            raise self._too_many()

    def worked(self, *names: str) -> None:
        """Forget the failures of names that have succeeded."""
        with self._lock:
            for name in names:
                self._names.pop(name, None)
                self._window.clear(self._item, name)

    def _count(self, name: str) -> bool:
        with self._lock:
            self._names.pop(name, None)
            self._names[name] = None
            while len(self._names) > REMEMBERED:
                oldest = next(iter(self._names))
                del self._names[oldest]
                self._window.clear(self._item, oldest)
            return self._window.hit(self._item, name)

    def _too_many(self) -> TooManyTries:
        wait = f"{self.seconds // 60} minutes" if self.seconds >= 120 else "a minute"
        return TooManyTries("Too many failed attempts.", f"Wait {wait}, then try again.")
