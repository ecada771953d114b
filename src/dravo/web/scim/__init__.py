"""inbound SCIM: an identity provider calls us by SCIM (RFC 7644)."""
