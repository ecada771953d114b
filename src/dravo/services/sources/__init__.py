"""Sources: their settings, SCIM tokens, policy, priority, schemas and setup checklists."""
