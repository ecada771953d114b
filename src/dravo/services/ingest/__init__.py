"""The single way in for what sources report: users, groups, conflicts and record links."""
