"""Stored notifications: events, rules, webhooks, and messages; and what needs an operator now."""
