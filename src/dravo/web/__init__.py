"""The web process: Flask rooms for the push channel, the management API, the console and health."""
