"""From access to the desired account: attributes, roles, drift and removal limits."""
