"""Provisioning: applications, their roles and connections, tasks, holds and reconciliation."""
