"""The worker process of one data folder, as `dravo.serving` starts it."""

from __future__ import annotations

import os
import signal
import threading
from pathlib import Path

import structlog

from dravo import child_process
from dravo.services.heartbeats import Heartbeats
from dravo.worker.loop import Worker

log = structlog.get_logger("worker")


def main(folder: Path, heartbeats: Heartbeats) -> None:
    """Work until asked to stop; end the process with 1 if the work fails as a whole."""
    try:
        worker = Worker(child_process.begin("worker", folder), heartbeats)
        child_process.keep_what_is_loaded()
        # In a thread, because the interrupted code may hold locks that stopping needs.
        signal.signal(signal.SIGTERM, lambda *_: threading.Thread(target=worker.stop).start())
        worker.run()
    except Exception:
        log.exception("the worker failed unexpectedly and ends")
        # Threads are not awaited: some may be in a long request.
        os._exit(1)
