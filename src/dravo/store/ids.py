"""IDs that sort by time: UUID version 7 (RFC 9562, section 5.7)."""

from __future__ import annotations

import os
import threading
import time

# 12 bits after the milliseconds hold the fraction of a millisecond (RFC 9562, section 6.2, method 3).
_PART_NANOSECONDS = 1_000_000 / 4_096
_lock = threading.Lock()
_last = 0


def new_id() -> str:
    """Return a new UUIDv7 as text; within one process it sorts after all earlier ones."""
    global _last  # noqa: PLW0603 (one clock for all of the process)
    milliseconds, rest = divmod(time.time_ns(), 1_000_000)
    moment = milliseconds << 12 | int(rest / _PART_NANOSECONDS)
    with _lock:
        # Two IDs in the same fraction, or a clock that was set back: use the next fraction.
        _last = moment = max(moment, _last + 1)
    value = (
        moment >> 12 << 80
        | 0x7 << 76
        | (moment & 0xFFF) << 64
        | 0x2 << 62
        | int.from_bytes(os.urandom(8), "big") >> 2
    )
    text = f"{value:032x}"
    return f"{text[:8]}-{text[8:12]}-{text[12:16]}-{text[16:20]}-{text[20:]}"
