"""The tables of sign-in: settings of sources, our keys, requests, test sign-ins, traces and sessions."""

from __future__ import annotations

from sqlalchemy import Column, ForeignKey, Index, Integer, String, Table, Text, UniqueConstraint

from dravo.store.tables.base import Json, at, metadata, own_id, some_of, to

source_sign_in = Table(
    "source_sign_in",
    metadata,
    Column("source_id", String(36), ForeignKey("source.id"), primary_key=True),
    # "saml", "oidc" or "mail"; what operators set; what the provider says of itself, as it was read last.
    Column("protocol", String(8), nullable=False),
    Column("settings", Json, nullable=False),
    Column("provider", Json, nullable=False),
    # The answers to the source policy for those who sign in; None where they are the usual ones.
    Column("policy", Json),
    Column("secret", Text),
    # "disabled", "pilot" or "everyone"; from an hour on, "everyone".
    Column("status", String(12), nullable=False, server_default="disabled"),
    at("enabled_from"),
    # Whom it lets in: "users", "operators" or "both".
    Column("serves", String(12), nullable=False, server_default="users"),
    # When a user came through the present settings to the end; with other ones it has to be proved again.
    at("verified_at"),
    # The address of the metadata: when it was looked at, what was wrong with it, and certificates that wait
    # to be taken over.
    at("looked_at"),
    Column("trouble", Text),
    Column("waiting", Json),
    at("changed_at", nullable=False),
)

# Our own keys towards a provider: the newest signs; those before it still open what was encrypted for them.
sign_in_key = Table(
    "sign_in_key",
    metadata,
    own_id(),
    to("source", index=True),
    Column("secret", Text, nullable=False),
    Column("certificate", Text, nullable=False),
    at("created_at", nullable=False),
    # From when on it signs, and until when it is still known.
    at("signs_from", nullable=False),
    at("retired_at"),
)

# A sign-in that was begun here and is waited for: known by a state that only this browser was given.
sign_in_request = Table(
    "sign_in_request",
    metadata,
    Column("state_hash", String(64), primary_key=True),
    to("source"),
    Column("browser_hash", String(64), nullable=False),
    # Of SAML the request's id; of OpenID Connect nonce and verifier, of mail the address and the code,
    # encrypted.
    Column("request_id", String(80)),
    Column("secret", Text),
    Column("test_id", String(36)),
    # The operator who binds themselves to whom it proves.
    Column("operator_id", String(36)),
    # How many wrong codes were given.
    Column("tries", Integer, nullable=False, server_default="0"),
    Column("back", Text, nullable=False),
    at("begun_at"),
    at("until_at", nullable=False),
)
Index("ix_sign_in_request_until", sign_in_request.c.until_at)

# What was accepted once and never is again.
consumed_assertion = Table(
    "consumed_assertion",
    metadata,
    to("source"),
    Column("once_hash", String(64), nullable=False),
    at("until_at", nullable=False),
    UniqueConstraint("source_id", "once_hash"),
)
Index("ix_consumed_assertion_until", consumed_assertion.c.until_at)

# A try by one named user, for some minutes: "observe" changes nothing, "for real" does.
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

# What each sign-in came to, step by step. Kept for a while; see the settings for how long.
sign_in_trace = Table(
    "sign_in_trace",
    metadata,
    own_id(),
    to("source"),
    at("at", nullable=False),
    Column("test_id", String(36)),
    # "signed_in", "observed", "refused".
    Column("outcome", String(10), nullable=False),
    # Of a refusal: its reason in a word or two, and what is told to users who look after it.
    Column("reason", String(40)),
    Column("message", Text, nullable=False),
    Column("hint", Text, nullable=False),
    Column("name", Text, nullable=False),
    Column("user_id", String(36)),
    Column("steps", Json, nullable=False),
    # What arrived, and what it came to: attributes, user, groups, access.
    Column("received", Json, nullable=False),
    Column("result", Json, nullable=False),
    # The message itself, its signatures and secrets left out.
    Column("raw", Text),
)
Index("ix_sign_in_trace_of_source", sign_in_trace.c.source_id, sign_in_trace.c.id)
some_of("ix_sign_in_trace_of_sign_in_test", sign_in_trace.c.test_id, where="test_id IS NOT NULL")

# A user who is signed in here, to see what is theirs.
user_session = Table(
    "user_session",
    metadata,
    own_id(),
    Column("hash", String(64), nullable=False, unique=True),
    to("user", index=True),
    to("source"),
    # By what the provider knows this sign-in and this user, for signing out there.
    Column("session", Text),
    Column("subject", Text, nullable=False),
    Column("subject_format", Text),
    at("created_at", nullable=False),
    at("last_seen_at", nullable=False),
    at("until_at", nullable=False),
)
Index("ix_user_session_until", user_session.c.until_at)
