"""Ids that sort by the time they were made: UUID version 7 (RFC 9562, section 5.7)."""

from __future__ import annotations

import os
import time


def new_id() -> str:
    """Return a new UUIDv7 as text."""
    value = (time.time_ns() // 1_000_000 & (1 << 48) - 1) << 80 | int.from_bytes(os.urandom(10), "big")
    value = value & ~(0xF << 76) | 0x7 << 76
    value = value & ~(0x3 << 62) | 0x2 << 62
    text = f"{value:032x}"
    return f"{text[:8]}-{text[8:12]}-{text[12:16]}-{text[16:20]}-{text[20:]}"
