"""Statuses of provisioning tasks as they are stored."""

from __future__ import annotations

WAITING, FAILED, HELD, DONE, DROPPED = "waiting", "failed", "held", "done", "discarded"
# An operator carries it out, because the application is tracked only.
MANUAL = "manual"
