"""Applications with their roles, connections, settings and status."""
