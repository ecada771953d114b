"""How every change is previewed, confirmed, and applied to many users in chunks."""
