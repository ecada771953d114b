"""Sign-in through sources by SAML, OpenID Connect or emailed code, with just-in-time provisioning."""
