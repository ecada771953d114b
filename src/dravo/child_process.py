"""What the web and the worker process have in common: each serves one data folder, and ends when the parent
that forked it is gone.
"""

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
    """Begin as the process of a name on a data folder, and return the organization that is there."""
    configure(name)
    end_with_parent()
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    return AppContext(folder)


def end_with_parent() -> None:
    """End this process at once when the parent is gone."""
    parent = multiprocessing.parent_process()
    if parent is None:
        return

    def wait() -> None:
        connection.wait([parent.sentinel])
        os._exit(0)

    threading.Thread(target=wait, daemon=True, name="parent").start()


def keep_what_is_loaded() -> None:
    """Exempt all that exists now from garbage collection.

    What was created at the start stays; requests create many short-lived objects that need no search for
    cycles every moment.
    """
    gc.freeze()
    gc.set_threshold(20_000, 20, 50)
