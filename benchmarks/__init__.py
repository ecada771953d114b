"""Benchmarks for `make bench`: each compares Dravo with a bare baseline in the same run."""
