"""Records, groups and conflicts of imports."""
