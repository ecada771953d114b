"""What the processes of a service have in common: each serves one data folder, and ends when the parent that watches it is gone."""

from __future__ import annotations

import os
import signal
import threading
from pathlib import Path

from dravo.logs import configure
from dravo.services.house import House


def begin(name: str, folder: str) -> House:
    """Begin as the process of a name on a data folder, and return the house that is there."""
    configure(name)
    end_with_parent()
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    return House(Path(folder))


def end_with_parent() -> None:
    """End this process at once when the parent is gone."""

    def wait() -> None:
        # Not by way of sys.stdin, whose lock would be in the way of an orderly end.
        while os.read(0, 64):
            pass
        os._exit(0)

    threading.Thread(target=wait, daemon=True, name="parent").start()
