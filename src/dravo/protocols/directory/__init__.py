"""Directory connectors: LDAP, the SCIM service of another party, files.

Each yields entries, and knows nothing of what follows.
"""
