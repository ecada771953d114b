"""Commands for access: assignments, role mapping, access and reviews."""
