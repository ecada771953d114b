"""Users as a whole: marks of operators, and erasing."""
