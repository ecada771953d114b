"""Statements on applications, provisioning tasks, attempts, holds, drift and provisioned groups."""
