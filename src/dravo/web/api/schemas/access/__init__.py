"""Requests and responses for access: assignments, access, matrix and reviews."""
