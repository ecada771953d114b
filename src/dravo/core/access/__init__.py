"""From assignments and memberships to access with reasons."""
