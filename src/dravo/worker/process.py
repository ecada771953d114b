"""The worker process of one data folder, as `dravo.serving` starts it; it is given the web's address too, and has no use for it."""

from __future__ import annotations

import signal
import sys

from dravo import process
from dravo.worker.loop import Worker


def main(arguments: list[str]) -> None:
    """Work until asked to stop."""
    worker = Worker(process.begin("worker", arguments[0]))
    signal.signal(signal.SIGTERM, lambda *_: worker.stop())
    worker.run()


if __name__ == "__main__":
    main(sys.argv[1:])
