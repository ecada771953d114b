"""Imports: directories and files that Dravo reads on a schedule."""
