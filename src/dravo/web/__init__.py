"""The web process: Flask rooms for inbound SCIM, the management API, the console and health."""
