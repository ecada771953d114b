"""SAML 2.0 as a service provider: metadata both ways, requests, and the checking of responses.

Knows no storage and no web.
"""
