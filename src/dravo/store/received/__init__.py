"""What a source sent through inbound SCIM, whether or not it counts."""
