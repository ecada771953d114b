"""Access requests: users ask for access to an application, and its owner approves or refuses."""
