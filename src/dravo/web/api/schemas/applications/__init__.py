"""Requests and responses for applications: settings, accounts, tasks, drift and license plans."""
