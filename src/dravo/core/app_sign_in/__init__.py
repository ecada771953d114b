"""Sign-in for applications: which claims a user brings, shared by SAML and OpenID Connect."""
