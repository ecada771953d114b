"""Outbound mail."""
