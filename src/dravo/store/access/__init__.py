"""Statements on assignments, license plans, reviews, and the views of current and past access."""
