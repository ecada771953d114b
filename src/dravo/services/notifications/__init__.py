"""Outbound mail, and notices to operators."""
