"""Inbound SCIM over HTTP: identity providers send users and groups (RFC 7644)."""
