"""Local users beside their records: invitations, passwords, sign-in with a password, and second factors."""
