"""Types of access: assignments, access, matrix and reviews.

Made from its OpenAPI document by tools/make_types.py; not edited by hand.
"""
