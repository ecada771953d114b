"""SAML 2.0 as a service provider: metadata in both directions, requests, and the validation of responses.

Knows no storage and no web.
"""
