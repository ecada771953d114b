"""Sources with their tokens, schemas, settings and observations."""
