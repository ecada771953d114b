"""Verifies the identity in a response of a provider, and notes each step for the trace."""

from __future__ import annotations

import secrets
from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

import orjson

from dravo.core.instants import Instant
from dravo.protocols.directory.reader import NOTED, OK, WRONG
from dravo.protocols.oidc import flow
from dravo.protocols.oidc import tokens as id_tokens
from dravo.protocols.oidc.keys import read_key_set, read_private_key
from dravo.protocols.oidc.tokens import ExpectedToken, UnknownKey
from dravo.protocols.saml import responses
from dravo.protocols.saml.responses import Expected
from dravo.protocols.verified_identity import SignInRefused, VerifiedIdentity
from dravo.services.context import AppContext
from dravo.services.security.operator_sso import OPERATORS
from dravo.services.security.secrets import digest
from dravo.services.sign_in import keys as sign_in_keys
from dravo.services.sign_in import provider_metadata
from dravo.services.sign_in import traces as sign_in_traces
from dravo.services.sign_in.settings import provider as provider_settings
from dravo.services.sign_in.test_sign_ins import OBSERVE
from dravo.store import clock
from dravo.store.sign_in import requests
from dravo.store.sign_in.requests import SignInRequest, StoredTest
from dravo.store.sources import settings as source_settings
from dravo.store.sources.settings import SourceSignIn
from dravo.store.sources.sources import Source


@dataclass
class StepLog:
    """The steps of a sign-in, in order."""

    lines: list[dict[str, str]] = field(default_factory=list)

    def note(self, name: str, message: str, outcome: str = OK, hint: str = "") -> None:
        """Write down a step."""
        self.lines.append({"name": name, "outcome": outcome, "message": message, "hint": hint})

    def failed(self, name: str, wrong: SignInRefused) -> None:
        """Write down the step that a refusal ended."""
        self.note(name, wrong.message, WRONG, wrong.hint)


@dataclass
class JitResult:
    """The result of just-in-time provisioning.

    Attributes:
        user_id: the user; None in a preview for a user who would be created.
        kind: what happened to the record, such as "new" or "unchanged".
        user: the SCIM User that the attribute mapping produced.
        groups: for each claimed group {"claimed", "group", "outcome", "gives"}.
        access: the user's access after the sign-in, with what was gained and lost.
    """

    user_id: str | None
    kind: str
    user: dict[str, Any]
    groups: list[dict[str, Any]]
    access: list[dict[str, Any]]

    def document(self) -> dict[str, Any]:
        """Return it as JSON."""
        return {"kind": self.kind, "made": self.user, "groups": self.groups, "access": self.access}


TRANSIENT = "urn:oasis:names:tc:SAML:2.0:nameid-format:transient"


@dataclass
class SignInAttempt:
    """A sign-in in progress: its source, the request that it answers, and the steps so far."""

    source: Source
    row: SourceSignIn
    base: str
    begun: SignInRequest | None = None
    sign_in_test: StoredTest | None = None
    steps: StepLog = field(default_factory=StepLog)
    proved: VerifiedIdentity | None = None
    # The same, under the provider's name for the user.
    named: VerifiedIdentity | None = None
    user: dict[str, Any] | None = None
    arrival: JitResult | None = None
    raw: str = ""

    @property
    def request(self) -> SignInRequest:
        """The started sign-in that this one answers.

        Raises:
            LookupError: if no sign-in was started; callers know that one was.
        """
        if self.begun is None:
            raise LookupError("no sign-in was started")
        return self.begun

    @property
    def observes(self) -> bool:
        """Whether this is a test sign-in that changes nothing."""
        return self.sign_in_test is not None and (
            self.sign_in_test.mode == OBSERVE or self.row.serves == OPERATORS
        )


def addresses(base: str, key: str) -> dict[str, str]:
    """Return our addresses for a source, out of the public address of the service."""
    at = f"{base}/sso/{key}"
    return {
        "entity_id": f"{at}/saml/metadata",
        "acs": f"{at}/saml/acs",
        "redirect": f"{at}/oidc/callback",
        "start": f"{at}/start",
        "keys": f"{at}/oidc/keys",
        "signed_out": f"{at}/signed-out",
        "sign_out": f"{at}/saml/sign-out",
    }


def client_of(
    ctx: AppContext, row: SourceSignIn, ours: dict[str, str], keys: list[sign_in_keys.OurKey]
) -> flow.Client:
    """Return our OpenID Connect client for a source, with its secret or its signing key.

    Args:
        ctx: the data folder.
        row: the sign-in settings of the source.
        ours: our addresses for the source, as `addresses` returns them.
        keys: our keys for the source, the current one first.
    """
    own = None
    if row.settings["private_key_jwt"] and keys:
        own = read_private_key(keys[0].key.private_bytes(*sign_in_keys.AS_PEM), keys[0].id)
    secret = ctx.keys.decrypt(row.secret) if row.secret else ""
    return flow.Client(
        row.settings["client_id"],
        ours["redirect"],
        secret,
        own,
        tuple(row.settings["scopes"].split()),
    )


def has_pending_sign_in(ctx: AppContext, state: str | None, browser: str | None) -> bool:
    """Whether a sign-in with this state was started in this browser and is not over."""
    if not state or not browser:
        return False
    with ctx.database.reading() as connection:
        return requests.is_pending(connection, digest(state), digest(browser), clock.now())


def take_begun(ctx: AppContext, way: SignInAttempt, state: str | None, browser: str | None) -> None:
    """Return the started sign-in of a state; it can be used once, and only in the browser that started it."""
    if not state:
        return
    with ctx.database.writing() as connection:
        found = requests.get(connection, digest(state), way.source.id)
        if found is None or found.until_at <= clock.now():
            return
        if not browser or digest(browser) != found.browser_hash:
            raise SignInRefused(
                "browser",
                "The sign-in was started in another browser.",
                "Start the sign-in again in one browser, with cookies allowed.",
            )
        requests.delete_request(connection, digest(state))
        if found.test_id:
            way.sign_in_test = requests.test_by_id(connection, found.test_id)
    way.begun = found


def prove_saml(
    ctx: AppContext, way: SignInAttempt, key: str, response: bytes, relay: str | None, browser: str | None
) -> VerifiedIdentity:
    """Return the identity that a SAML response proves.

    Raises:
        SignInRefused: with the reason why it proves no identity.
    """
    take_begun(ctx, way, relay, browser)
    with ctx.database.reading() as connection:
        keys = sign_in_keys.of_source(ctx, connection, way.source.id)
    ours, row = addresses(way.base, key), way.row
    allow_idp_initiated = way.begun is None and row.settings["allow_idp_initiated"]
    if way.begun is None and not allow_idp_initiated:
        way.steps.note(
            "Expected",
            "The response matches no open request. It was started elsewhere, was used already, or took "
            "too long.",
            NOTED,
        )
    expected = Expected(
        row.provider.get("entity_id", ""),
        provider_settings.certificates_of(row),
        ours["entity_id"],
        ours["acs"],
        way.begun.request_id if way.begun is not None else None,
        seconds_of(clock.now()),
        allow_idp_initiated,
        row.settings["clock_skew"],
        [each.key for each in keys],
        3_600 * row.settings.get("max_validity_hours", 1),
        row.settings.get("authn_context", "").split(),
    )
    proved = responses.accept(response, expected, way.steps.note)
    if proved.format == TRANSIENT and not row.settings["subject_claim"]:
        raise SignInRefused(
            "no_subject",
            "The provider sends a new NameID at each sign-in (transient NameID).",
            "Configure the provider to send a persistent NameID, or set the subject claim.",
        )
    return proved


def prove_oidc(
    ctx: AppContext, way: SignInAttempt, key: str, query: Mapping[str, str], browser: str | None
) -> VerifiedIdentity:
    """Return the identity in the ID token that the provider issues for a code (OpenID Connect Core 3.1.3).

    Raises:
        SignInRefused: with the reason why it proves no identity.
        ProviderTrouble: if the provider does not answer.
    """
    take_begun(ctx, way, query.get("state"), browser)
    provider = provider_metadata.oidc_provider(way.row.provider)
    _check_authorization_response(way, query, provider.issuer)
    way.steps.note("Arrived", "Received an authorization code for the open request.")
    with ctx.database.reading() as connection:
        keys = sign_in_keys.of_source(ctx, connection, way.source.id)
    nonce, verifier = orjson.loads(ctx.keys.decrypt(way.request.secret or ""))
    client = client_of(ctx, way.row, addresses(way.base, key), keys)
    form, headers = flow.token_request(
        provider, client, query["code"], verifier, seconds_of(clock.now()), secrets.token_urlsafe(16)
    )
    given = _request_token(provider.token, form, headers, way.row.settings.get("ca", ""))
    way.steps.note("Token", "The provider issued a token for the code.")
    expected = ExpectedToken(
        provider.issuer,
        client.id,
        nonce,
        seconds_of(clock.now()),
        provider.algorithms,
        way.row.settings["clock_skew"],
        way.row.settings.get("authn_context", "").split(),
    )
    access_token = str(given["access_token"]) if given.get("access_token") else None
    token_claims = _accepted(ctx, way, given["id_token"], expected, access_token)
    way.steps.note(
        "Signature",
        f"The token is signed with a key of {provider.issuer}, is meant for Dravo, and matches the "
        "open request.",
    )
    if way.row.settings["userinfo"] and provider.userinfo and access_token:
        token_claims = _add_userinfo(way, provider.userinfo, access_token, token_claims)
    way.raw = orjson.dumps(token_claims, option=orjson.OPT_INDENT_2).decode()[: sign_in_traces.LARGEST_RAW]
    once = (f"{token_claims.get('jti', '')} {nonce}", float(token_claims["exp"]))
    return VerifiedIdentity(
        provider.issuer,
        token_claims["sub"],
        flow.values_of(token_claims),
        once,
        token_claims.get("sid"),
        None,
    )


def _check_authorization_response(way: SignInAttempt, query: Mapping[str, str], issuer: str) -> None:
    """Refuse a response without a code for the open request (OpenID Connect Core 3.1.2.5 to 3.1.2.7)."""
    if way.begun is None:
        raise SignInRefused(
            "state",
            "The response matches no open request, or took too long.",
            "Start the sign-in again in one window.",
        )
    if "error" in query:
        said = f"{query['error'][:100]}: {query.get('error_description', '')[:300]}".rstrip(": ")
        hint = "Check that the user is assigned at the provider, and that the redirect URI is registered."
        raise SignInRefused("status", f"The provider responded with '{said}'.", hint)
    if query.get("iss") not in (None, issuer):
        raise SignInRefused(
            "issuer", "The response comes from another issuer (RFC 9207).", "Start the sign-in again."
        )
    if not query.get("code"):
        raise SignInRefused(
            "status",
            "The provider sent no code.",
            "Start the sign-in again, and check the log of the provider.",
        )


def _request_token(address: str, form: dict[str, str], headers: dict[str, str], ca: str) -> dict[str, Any]:
    """Return the token response (RFC 6749 5.1), which has an ID token."""
    answer = provider_metadata.fetch(address, provider_metadata.JSON, form=form, headers=headers, ca=ca)
    given = answer.document or {}
    if answer.status == 200 and isinstance(given.get("id_token"), str):
        return given
    said = f"{given.get('error', answer.status)} {given.get('error_description', '')}".strip()[:300]
    repairs = {
        "invalid_client": "Compare the client ID and the client secret on both sides.",
        "invalid_grant": "Compare the redirect URI at the provider, then start the sign-in again.",
    }
    raise SignInRefused(
        "code",
        f"The provider issued no token for the code: {said}.",
        repairs.get(str(given.get("error")), "Contact the administrator of the provider."),
    )


def _add_userinfo(
    way: SignInAttempt, address: str, access_token: str, claims: dict[str, Any]
) -> dict[str, Any]:
    """Return the claims with those of the UserInfo endpoint (OpenID Connect Core 5.3), if it responds."""
    response = provider_metadata.fetch(
        address,
        provider_metadata.JSON,
        headers={"Authorization": f"Bearer {access_token}"},
        ca=way.row.settings.get("ca", ""),
    )
    if response.status == 200 and response.document is not None:
        way.steps.note("UserInfo", "Received more claims from the UserInfo endpoint.")
        return id_tokens.check_userinfo(claims, response.document)
    way.steps.note(
        "UserInfo",
        f"The UserInfo endpoint responds with status {response.status}. Dravo uses the claims of the token.",
        "warning",
    )
    return claims


def _accepted(
    ctx: AppContext, way: SignInAttempt, token: str, expected: ExpectedToken, access_token: str | None
) -> dict[str, Any]:
    """Return the claims of a token; an unknown key is looked for once more at the provider, and not again."""
    try:
        return id_tokens.accept(token, read_key_set(way.row.provider["jwks"]), expected, access_token)
    except UnknownKey as wrong:
        if not way.row.provider["keys"]:
            raise _unknown_key(wrong, "Enter the present keys of the provider (JWK set).") from None
        fresh = provider_metadata.fetch_keys(way.row.provider["keys"], way.row.settings.get("ca", ""))
    way.steps.note("Keys", "The token names an unknown key. Dravo fetched the keys of the provider again.")
    with ctx.database.writing() as connection:
        provider = {**way.row.provider, "jwks": fresh}
        source_settings.update_sign_in(connection, way.source.id, provider=provider)
    try:
        return id_tokens.accept(token, read_key_set(fresh), expected, access_token)  # type: ignore[arg-type]
    except UnknownKey as wrong:
        raise _unknown_key(wrong, "Check the issuer.") from None


def _unknown_key(named: UnknownKey, hint: str) -> SignInRefused:
    return SignInRefused(
        "key", f"The token names the key '{str(named)[:80]}', which the provider does not publish.", hint
    )


def seconds_of(at: Instant) -> float:
    """Return an instant as seconds since 1970."""
    return datetime.fromisoformat(at).timestamp()
