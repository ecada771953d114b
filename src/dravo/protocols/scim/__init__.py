"""SCIM towards applications: the guarded client, the conversation that brings an account to what is due, the
connection check.
"""
