"""The worker process: delivers, works out who is marked, lets dates take effect."""
