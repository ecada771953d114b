"""The tests; they mirror src/dravo."""
