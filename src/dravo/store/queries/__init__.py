"""Queries by subject, for the lists and pages of the API."""
