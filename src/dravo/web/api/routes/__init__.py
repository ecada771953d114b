"""The routes of the management API, one module for each resource."""
