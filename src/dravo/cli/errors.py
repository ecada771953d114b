"""How commands fail: exit codes, and an error on standard error with its hint."""

from __future__ import annotations

import sys

# Exit codes.
FAILED, WRONG_USE, NOT_THERE, NOT_PERMITTED, UNREACHABLE = 1, 2, 3, 4, 5


def fail(message: str, hint: str, code: int) -> int:
    """Print an error with its hint, and return its exit code."""
    print(f"dravo: {message}", file=sys.stderr)
    if hint:
        print(f"       {hint}", file=sys.stderr)
    return code
