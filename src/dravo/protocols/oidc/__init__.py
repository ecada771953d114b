"""OpenID Connect as a relying party: discovery, the code flow with PKCE, and the validation of tokens.

Knows no storage and no web.
"""
