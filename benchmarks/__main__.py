"""Runs all benchmarks: python -m benchmarks."""

from __future__ import annotations

from benchmarks import pushing

if __name__ == "__main__":
    pushing.run()
