"""Reconciliation: comparing an application with its desired state, and repairing the differences."""
