"""Sign-in as browsers reach it: `/sso/{source}/...`."""
