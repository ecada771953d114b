"""Reports: overview, activity, access flow and metrics."""
