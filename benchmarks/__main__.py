"""Runs every benchmark, or those that are named: python -m benchmarks [pushing] [filtering]."""

from __future__ import annotations

import sys

from benchmarks import delivering, filtering, pushing

ALL = {"pushing": pushing.run, "filtering": filtering.run, "delivering": delivering.run}

if __name__ == "__main__":
    for name in sys.argv[1:] or ALL:
        ALL[name]()
