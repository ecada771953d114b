"""The language of SCIM: schemas, resources, attribute paths, filters and patches (RFC 7643, RFC 7644 section
3).
"""
