"""Requests and responses for sources: settings, imports and sign-in."""
