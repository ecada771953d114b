"""Dravo brings users and groups from identity providers into applications, and can say why."""

__version__ = "0.1.0"
