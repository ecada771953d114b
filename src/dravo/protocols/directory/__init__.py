"""Readers of directories: LDAP, another party's SCIM service, files.

Each yields entries, and knows nothing of what follows.
"""
