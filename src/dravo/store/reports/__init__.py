"""Counts over all data, and reports that are stored until something changes."""
