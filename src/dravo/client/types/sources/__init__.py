"""Types of sources: settings, imports and sign-in.

Made from its OpenAPI document by tools/make_types.py; not edited by hand.
"""
