"""Where everything is kept: the only place that knows SQL."""
