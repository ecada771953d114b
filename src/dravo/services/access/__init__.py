"""Access: assignments, role mapping, policies, simulation, matrix, comparison, license plans and reviews."""
