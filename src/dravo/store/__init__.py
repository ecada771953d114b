"""The store: the only place that knows SQL."""
