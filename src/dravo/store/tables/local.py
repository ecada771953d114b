"""The tables of second factors, passkeys, and the passwords and invitations of local users."""

from __future__ import annotations

from sqlalchemy import Boolean, Column, ForeignKey, Index, Integer, String, Table, Text

from dravo.store.tables.base import at, metadata, own_id, some_of

# TOTP of operators and users: the encrypted secret, a secret that is not confirmed yet, the time of setup,
# and the time step of the last used code. `owner_id` is the ID of an operator or of a user.
second_factor = Table(
    "second_factor",
    metadata,
    Column("owner_id", String(36), primary_key=True),
    Column("secret", Text),
    Column("pending", Text),
    at("since"),
    Column("counter", Integer),
)

# Recovery codes of operators and users; each works once.
recovery_code = Table(
    "recovery_code",
    metadata,
    Column("owner_id", String(36), nullable=False, index=True),
    Column("hash", String(64), primary_key=True),
    at("used_at"),
)

# Passkeys of operators and users (WebAuthn): credential ID and public key in base64url.
passkey = Table(
    "passkey",
    metadata,
    own_id(),
    Column("owner_id", String(36), nullable=False, index=True),
    Column("credential_id", Text, nullable=False, unique=True),
    Column("public_key", Text, nullable=False),
    Column("sign_count", Integer, nullable=False),
    Column("label", Text, nullable=False),
    at("created_at", nullable=False),
    at("last_used_at"),
)

# Passwords of local users. `until_at` is the end of a one-time password that was not used.
local_password = Table(
    "local_password",
    metadata,
    Column("user_id", String(36), ForeignKey("user.id"), primary_key=True),
    Column("hash", Text, nullable=False),
    Column("must_change", Boolean(create_constraint=False), nullable=False),
    at("until_at"),
    at("changed_at", nullable=False),
)

# The invitation of a local user; a new one replaces it. `accepted_with` is "password" or the key of a source.
invitation = Table(
    "invitation",
    metadata,
    own_id(),
    Column("user_id", String(36), ForeignKey("user.id"), nullable=False, unique=True),
    Column("email", Text, nullable=False),
    Column("hash", String(64), nullable=False, unique=True),
    Column("invited_by", Text, nullable=False),
    at("invited_at", nullable=False),
    at("sent_at", nullable=False),
    at("until_at", nullable=False),
    at("accepted_at"),
    Column("accepted_with", Text),
    at("withdrawn_at"),
)
some_of(
    "ix_invitation_open",
    invitation.c.until_at,
    where="accepted_at IS NULL AND withdrawn_at IS NULL",
)

# Steps that a browser or an email goes on with, identified by a secret: a sign-in whose second factor is
# missing, a challenge for a passkey, a password reset. `data` is encrypted.
sign_in_step = Table(
    "sign_in_step",
    metadata,
    Column("hash", String(64), primary_key=True),
    Column("purpose", String(20), nullable=False),
    Column("owner_id", String(36), nullable=False, index=True),
    Column("data", Text),
    at("until_at", nullable=False),
)
Index("ix_sign_in_step_until", sign_in_step.c.until_at)
