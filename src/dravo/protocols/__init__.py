"""Protocols on the wire, without storage or Flask."""
