"""What planning reads: the users that a change can affect, and the declared configuration."""
