"""Notifications: which events there are, when each is reported, and whom a rule tells."""
