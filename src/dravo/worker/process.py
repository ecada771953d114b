"""The worker process of one data folder, as `dravo.serving` starts it."""

from __future__ import annotations

import signal
import threading
from pathlib import Path

from dravo import process
from dravo.worker.loop import Worker


def main(folder: Path) -> None:
    """Work until asked to stop."""
    worker = Worker(process.begin("worker", folder))
    process.keep_what_is_loaded()
    # By a thread: what the handler interrupts may hold the very locks that stopping needs.
    signal.signal(signal.SIGTERM, lambda *_: threading.Thread(target=worker.stop).start())
    worker.run()
