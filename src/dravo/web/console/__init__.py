"""Serves the built console."""
