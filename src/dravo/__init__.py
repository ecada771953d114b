"""Dravo provisions users and groups from identity providers into applications, and explains their access."""

__version__ = "0.1.0"
