"""Commands for sources: imports and sign-in."""
