"""Routes of applications: their settings, license plans, drift, and accounts managed by hand."""
