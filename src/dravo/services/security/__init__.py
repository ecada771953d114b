"""Operators, sessions, API tokens, permissions, second factors, masking, secrets and the audit log."""
