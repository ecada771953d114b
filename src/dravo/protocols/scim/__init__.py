"""SCIM towards applications: conversations that bring accounts and groups to their desired state, and the
connection check.
"""
