"""What planning reads: the affected users, and the configuration."""
