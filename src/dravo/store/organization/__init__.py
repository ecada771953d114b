"""Stored organization settings, and queued email."""
