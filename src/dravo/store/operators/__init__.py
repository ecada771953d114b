"""Reads and writes operators: their sign-in, sessions, API tokens and links to sources, and the audit log."""
