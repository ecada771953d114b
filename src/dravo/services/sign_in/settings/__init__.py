"""Sign-in settings of sources: protocol, provider, status and pilot."""
