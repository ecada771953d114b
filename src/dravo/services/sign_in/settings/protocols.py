"""Sign-in protocols of sources, with their labels."""

from __future__ import annotations

SAML, OIDC, MAIL = "saml", "oidc", "email_code"
PROTOCOLS = {SAML: "SAML 2.0", OIDC: "OpenID Connect", MAIL: "emailed code"}
