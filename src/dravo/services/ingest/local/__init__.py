"""Local users and groups, which operators manage in Dravo."""
