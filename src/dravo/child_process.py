"""What the web and the worker process share: each serves one data folder, and ends when its parent ends."""

from __future__ import annotations

import gc
import multiprocessing
import os
import signal
import threading
from multiprocessing import connection
from pathlib import Path

from dravo.logs import configure
from dravo.services.context import AppContext


def begin(name: str, folder: Path) -> AppContext:
    """Start as a named process on a data folder, and return its context."""
    configure(name)
    end_with_parent()
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    return AppContext(folder)


def end_with_parent() -> None:
    """End this process at once when the parent ends."""
    parent = multiprocessing.parent_process()
    if parent is None:
        return

    def wait() -> None:
        connection.wait([parent.sentinel])
        os._exit(0)

    threading.Thread(target=wait, daemon=True, name="parent").start()


def keep_what_is_loaded() -> None:
    """Exempt all current objects from garbage collection.

    They exist as long as the process; requests create many short-lived objects without cycles.
    """
    gc.freeze()
    gc.set_threshold(20_000, 20, 50)
