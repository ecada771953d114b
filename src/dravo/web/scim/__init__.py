"""The push channel: an identity provider calls us by SCIM (RFC 7644)."""
