"""Access reviews: rows, decisions and export."""
