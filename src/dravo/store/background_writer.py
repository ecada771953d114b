"""Inserts rows in the background, many at a time, for rows that no reply depends on."""

from __future__ import annotations

import threading
from collections import deque
from typing import Any

import structlog
from sqlalchemy import Insert

from dravo.core.errors import DravoError
from dravo.store.database import Database

# Beyond this many rows the oldest are dropped.
MAX_WAITING = 5_000
FLUSH_SECONDS = 1.0
log = structlog.get_logger("store")


class BackgroundWriter:
    """Collects rows for one INSERT statement and writes them about once a second, in a thread of its own.

    Args:
        database: the records.
        statement: the INSERT; each row gives its values.
    """

    def __init__(self, database: Database, statement: Insert) -> None:
        self._database = database
        self._statement = statement
        self._waiting: deque[dict[str, Any]] = deque(maxlen=MAX_WAITING)
        self._lock = threading.Lock()
        self._thread: threading.Thread | None = None
        self._stopped = threading.Event()

    def add(self, row: dict[str, Any]) -> None:
        """Queue a row; it is written within about a second."""
        with self._lock:
            self._waiting.append(row)
            if self._thread is None:
                self._thread = threading.Thread(
                    target=self._run, name=f"writes {self._statement.table.name}", daemon=True
                )
                self._thread.start()

    def _run(self) -> None:
        while not self._stopped.wait(FLUSH_SECONDS):
            try:
                self.flush()
            except DravoError:
                # The database is locked or cannot be written: the rows stay queued.
                continue
            except Exception:
                log.error(
                    "rows could not be written and are dropped",
                    table=self._statement.table.name,
                    exc_info=True,
                )

    def flush(self) -> None:
        """Write the queued rows now.

        Raises:
            DravoError: if the database cannot be written; the rows stay queued.
        """
        with self._lock:
            rows, self._waiting = list(self._waiting), deque(maxlen=MAX_WAITING)
        if not rows:
            return
        try:
            with self._database.writing() as connection:
                connection.execute(self._statement, rows)
        except DravoError:
            with self._lock:
                self._waiting.extendleft(reversed(rows))
            raise

    def close(self) -> None:
        """Stop the thread, and write the queued rows."""
        self._stopped.set()
        if self._thread is not None:
            self._thread.join()
        self.flush()
