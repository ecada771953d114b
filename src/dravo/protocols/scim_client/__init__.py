"""SCIM towards applications (RFC 7644): capabilities, accounts, groups, bulk and the connection test."""
