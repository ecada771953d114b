"""The tables of sign-in: settings of sources, our keys, requests, test sign-ins, traces and sessions."""

from __future__ import annotations

from sqlalchemy import Column, ForeignKey, Index, Integer, String, Table, Text, UniqueConstraint

from dravo.store.tables.base import Json, at, metadata, own_id, some_of, to

source_sign_in = Table(
    "source_sign_in",
    metadata,
    Column("source_id", String(36), ForeignKey("source.id"), primary_key=True),
    # The protocol ("saml", "oidc" or "email_code"), its settings, and the metadata of the provider as read
    # last.
    Column("protocol", String(8), nullable=False),
    Column("settings", Json, nullable=False),
    Column("provider", Json, nullable=False),
    # The source policy for sign-in; null for the default.
    Column("policy", Json),
    Column("secret", Text),
    # "disabled", "pilot" or "enabled", and the time at which it becomes "enabled".
    Column("status", String(12), nullable=False, server_default="disabled"),
    at("enabled_from"),
    # Who can sign in: "users", "operators" or "both".
    Column("serves", String(12), nullable=False, server_default="users"),
    # First successful sign-in with the current settings; null after a change of settings.
    at("verified_at"),
    # Metadata URL: the time of the last check, its error, and new certificates that wait for approval.
    at("looked_at"),
    Column("trouble", Text),
    Column("waiting", Json),
    at("changed_at", nullable=False),
)

# Keys for SAML: the newest one signs; older ones still decrypt.
sign_in_key = Table(
    "sign_in_key",
    metadata,
    own_id(),
    to("source", index=True),
    Column("secret", Text, nullable=False),
    Column("certificate", Text, nullable=False),
    at("created_at", nullable=False),
    # Time from which it signs, and time of its retirement.
    at("signs_from", nullable=False),
    at("retired_at"),
)

# Sign-ins in progress, identified by a state that only this browser knows.
sign_in_request = Table(
    "sign_in_request",
    metadata,
    Column("state_hash", String(64), primary_key=True),
    to("source"),
    Column("browser_hash", String(64), nullable=False),
    # SAML: the request ID. OpenID Connect: nonce and code verifier. Emailed code: address and code.
    # Encrypted.
    Column("request_id", String(80)),
    Column("secret", Text),
    Column("test_id", String(36)),
    # The operator who links their user to the verified identity; null for a sign-in.
    Column("operator_id", String(36)),
    # Number of wrong codes.
    Column("tries", Integer, nullable=False, server_default="0"),
    Column("back", Text, nullable=False),
    at("begun_at"),
    at("until_at", nullable=False),
)
Index("ix_sign_in_request_until", sign_in_request.c.until_at)

# IDs of used assertions and tokens; each is accepted once.
consumed_assertion = Table(
    "consumed_assertion",
    metadata,
    to("source"),
    Column("once_hash", String(64), nullable=False),
    at("until_at", nullable=False),
    UniqueConstraint("source_id", "once_hash"),
)
Index("ix_consumed_assertion_until", consumed_assertion.c.until_at)

# Test sign-ins, valid for some minutes. "observe" changes nothing, "apply" changes the user.
test_sign_in = Table(
    "test_sign_in",
    metadata,
    own_id(),
    to("source", index=True),
    Column("hash", String(64), nullable=False, unique=True),
    Column("user", Text, nullable=False),
    Column("user_key", Text, nullable=False),
    Column("mode", String(10), nullable=False),
    Column("created_by", Text, nullable=False),
    at("created_at", nullable=False),
    at("until_at", nullable=False),
)

# Traces of sign-ins, kept as long as the retention setting says.
sign_in_trace = Table(
    "sign_in_trace",
    metadata,
    own_id(),
    to("source"),
    at("at", nullable=False),
    Column("test_id", String(36)),
    # "signed_in", "observed" or "refused".
    Column("outcome", String(10), nullable=False),
    # Of a refusal: the kind of its reason, and the message for operators.
    Column("reason", String(40)),
    Column("message", Text, nullable=False),
    Column("hint", Text, nullable=False),
    Column("name", Text, nullable=False),
    Column("user_id", String(36)),
    Column("steps", Json, nullable=False),
    # Received claims, and the resulting attributes, user, groups and access.
    Column("received", Json, nullable=False),
    Column("result", Json, nullable=False),
    # The message without signatures and secrets.
    Column("raw", Text),
)
Index("ix_sign_in_trace_of_source", sign_in_trace.c.source_id, sign_in_trace.c.id)
# Counts the refused sign-ins of the last hour every few seconds.
some_of(
    "ix_sign_in_trace_refused",
    sign_in_trace.c.at,
    sign_in_trace.c.source_id,
    where="outcome = 'refused' AND test_id IS NULL",
)
some_of("ix_sign_in_trace_of_sign_in_test", sign_in_trace.c.test_id, where="test_id IS NOT NULL")

# Sessions of signed-in users.
user_session = Table(
    "user_session",
    metadata,
    own_id(),
    Column("hash", String(64), nullable=False, unique=True),
    to("user", index=True),
    to("source"),
    # The provider's IDs of the session and the user, for single logout.
    Column("session", Text),
    Column("subject", Text, nullable=False),
    Column("subject_format", Text),
    at("created_at", nullable=False),
    at("last_seen_at", nullable=False),
    at("until_at", nullable=False),
)
Index("ix_user_session_until", user_session.c.until_at)
