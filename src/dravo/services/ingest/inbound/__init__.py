"""Records and groups of inbound SCIM that the policy of their source decides about."""
