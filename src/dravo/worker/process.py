"""The worker process of one data folder, as `dravo.serving` starts it."""

from __future__ import annotations

import os
import signal
import threading
from pathlib import Path

import structlog

from dravo import child_process
from dravo.core.notifications.event_kinds import WORKER_RESTARTED
from dravo.core.notifications.reporting import Condition
from dravo.services.heartbeats import Heartbeats
from dravo.services.notifications import events
from dravo.worker.loop import Worker

RESTARTED = Condition(
    kind=WORKER_RESTARTED,
    subject_id="worker",
    subject="Worker",
    title="The worker was restarted",
    text="The process that provisions ended unexpectedly and was started again. Nothing is lost. The service "
    "log says why.",
    path="/provisioning/tasks",
)

log = structlog.get_logger("worker")


def main(folder: Path, public_url: str, heartbeats: Heartbeats, *, restarted: bool) -> None:
    """Work until asked to stop; end the process with 1 if the work fails as a whole.

    Args:
        public_url: the public address of the service, for links in emails.
        restarted: whether an earlier worker of this service ended by itself.
    """
    try:
        ctx = child_process.begin("worker", folder)
        ctx.public_url = public_url
        if restarted:
            events.note(ctx, RESTARTED)
        worker = Worker(ctx, heartbeats)
        child_process.keep_what_is_loaded()
        # In a thread, because the interrupted code may hold locks that stopping needs.
        signal.signal(signal.SIGTERM, lambda *_: threading.Thread(target=worker.stop).start())
        worker.run()
    except Exception:
        log.exception("the worker failed unexpectedly and ends")
        # Threads are not awaited: some may be in a long request.
        os._exit(1)
