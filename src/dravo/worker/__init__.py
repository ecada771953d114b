"""The worker process: provisions, recomputes marked users, and lets dates take effect."""
