"""Inbound SCIM (RFC 7643, 7644): requests of sources, their answers and traces."""
