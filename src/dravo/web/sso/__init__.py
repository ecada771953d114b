"""The sign-in channel as browsers reach it: `/sso/{source}/...`."""
