"""Starts a sign-in: selects the source, and sends the browser to its provider."""

from __future__ import annotations

import secrets
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any
from urllib.parse import urlencode

import orjson
from sqlalchemy import Connection

from dravo.core.identity.names import fold
from dravo.core.instants import later
from dravo.protocols.oidc import flow
from dravo.protocols.saml import requests
from dravo.protocols.saml.names import POST, REDIRECT
from dravo.protocols.verified_identity import AuthnRequirements, SignInRefused
from dravo.services import settings
from dravo.services.context import AppContext
from dravo.services.security.operator_sso import OPERATORS, USERS
from dravo.services.security.permissions import Caller
from dravo.services.security.secrets import digest
from dravo.services.sign_in import keys as sign_in_keys
from dravo.services.sign_in import messages as sign_in_messages
from dravo.services.sign_in import provider_metadata, test_sign_ins
from dravo.services.sign_in.settings import settings as sign_in_settings
from dravo.services.sign_in.settings.protocols import MAIL, SAML
from dravo.services.sign_in.settings.settings import DISABLED
from dravo.services.sign_in.verification import addresses, client_of
from dravo.services.sources import observations
from dravo.services.sources import policy as source_policies
from dravo.store import clock
from dravo.store.local import passwords
from dravo.store.queries.references import KeyAndLabel
from dravo.store.sign_in import requests as sign_in_requests
from dravo.store.sign_in import settings as sign_in_rows
from dravo.store.sign_in.settings import NamedSignIn
from dravo.store.sources.settings import SourceSignIn

BEGUN_SECONDS = 900
HOME = "/your-applications"


@dataclass
class SignInChoice:
    """One of several ways to sign in."""

    key: str
    label: str
    start: str
    by_code: bool


@dataclass
class SignInForEmail:
    """The sign-in for an email address or a user name; null if there is none.

    `by_password` tells that local users of the domain sign in with a password.
    """

    source: KeyAndLabel | None
    start: str
    by_code: bool
    by_password: bool
    choices: list[SignInChoice]
    any: bool
    for_operators: list[KeyAndLabel]


@dataclass(frozen=True)
class SignInRedirect:
    """Where a browser goes to sign in, by an address or by a form to post, and the value of its cookie."""

    url: str
    form: Mapping[str, str] | None
    browser: str


def safe_back(path: str | None) -> str:
    """Return the page to which a user goes after signing in: always a page of this service."""
    if (
        not path
        or not path.startswith("/")
        or path.startswith("//")
        or any(sign in path for sign in "\\\r\n\t")
        or len(path) > 500
    ):
        return HOME
    return path


# Starting a sign-in


@dataclass(frozen=True)
class StartOptions:
    """How a sign-in starts.

    Attributes:
        sign_in_test: the secret of a test sign-in's link, or None.
        back: the page to which the user goes after signing in.
        browser: the value of the browser's cookie, or None.
        operator: the signed-in operator who links their provider account, or None.
    """

    sign_in_test: str | None = None
    back: str | None = None
    browser: str | None = None
    operator: Caller | None = None


STANDARD_START = StartOptions()


def start(ctx: AppContext, key: str, base: str, options: StartOptions = STANDARD_START) -> SignInRedirect:
    """Start a sign-in through a source.

    Args:
        ctx: the data folder.
        key: the key of the source.
        base: the public address of the service.
        options: how the sign-in starts.

    Raises:
        NotFound; SignInRefused: "disabled", "sign_in_test", "operator", "settings".
    """
    sign_in_test, browser, operator = options.sign_in_test, options.browser, options.operator
    with ctx.database.reading() as connection:
        source, row = source_policies.sign_in_of(connection, key)
        kept = test_sign_ins.by_secret(connection, source.id, sign_in_test) if sign_in_test else None
        keys = sign_in_keys.of_source(ctx, connection, source.id)
        lacking = sign_in_settings.missing(connection, row)
        whom = settings.support_contact(connection, row.settings)
    if sign_in_test and kept is None:
        raise SignInRefused(
            "sign_in_test",
            "The test sign-in has expired or does not exist.",
            "Ask the user who sent you the link for a new one.",
        )
    if operator is not None and row.serves == USERS:
        raise SignInRefused(
            "operator",
            f"Operators cannot sign in through {source.label}.",
            "A super administrator can allow it on the Sign-in tab of the source.",
        )
    if row.status == DISABLED and kept is None and operator is None:
        raise SignInRefused(
            "disabled",
            f"Sign-in through {source.label} is not enabled yet.",
            whom or "Contact your administrator.",
        )
    if lacking:
        raise sign_in_messages.unfinished(lacking)
    if row.protocol == MAIL:
        # The sign-in page asks for the address and requests the code; nothing starts before that.
        query = {"by": key, **({"sign_in_test": sign_in_test} if sign_in_test else {})}
        return SignInRedirect(
            f"{base}/sign-in?{urlencode(query)}", None, browser or secrets.token_urlsafe(32)
        )
    # A browser with several open pages has one cookie for all of them.
    state, browser = secrets.token_urlsafe(32), browser or secrets.token_urlsafe(32)
    begun: dict[str, Any] = {
        "state_hash": digest(state),
        "source_id": source.id,
        "browser_hash": digest(browser),
        "test_id": kept.id if kept is not None else None,
        "operator_id": operator.operator_id if operator is not None else None,
        "back": safe_back(options.back),
        "begun_at": clock.now(),
        "until_at": later(clock.now(), BEGUN_SECONDS),
    }
    request = (_saml_request if row.protocol == SAML else _oidc_request)(
        ctx, row, addresses(base, key), state, keys
    )
    begun |= request.stored
    with ctx.database.writing() as connection:
        sign_in_requests.insert_request(connection, begun)
        observations.note(connection, source.id, observations.STARTED)
    return SignInRedirect(request.url, request.form, browser)


@dataclass(frozen=True)
class _ProviderRequest:
    """A request to a provider, and the values that its response is checked against."""

    url: str
    form: Mapping[str, str] | None
    stored: dict[str, Any]


def _saml_request(
    ctx: AppContext, row: SourceSignIn, ours: dict[str, str], state: str, keys: list[sign_in_keys.OurKey]
) -> _ProviderRequest:
    binding, address = _endpoint(row)
    identifier = f"_{secrets.token_hex(20)}"
    signs = (
        keys[0].key if keys and (row.settings["sign_requests"] or row.provider.get("wants_signed")) else None
    )
    asked = requests.sign_in_request(
        requests.MessageHeader(identifier, address, ours["entity_id"], clock.now()),
        binding,
        ours["acs"],
        state,
        signs,
        required_of(row),
    )
    return _ProviderRequest(asked.url, asked.form, {"request_id": identifier})


def _endpoint(row: SourceSignIn) -> tuple[str, str]:
    """Return the binding and the address of requests to a SAML provider.

    A provider whose values were entered one by one has one address for both bindings.
    """
    offered = row.provider["sign_in"]
    wanted = {"redirect": REDIRECT, "post": POST}.get(row.settings.get("request_binding", ""))
    binding = wanted or (REDIRECT if REDIRECT in offered else POST)
    return binding, offered.get(binding) or next(iter(offered.values()))


def required_of(row: SourceSignIn) -> AuthnRequirements:
    """Return how users have to sign in at the provider of a source."""
    return AuthnRequirements(row.settings["force_authn"], row.settings.get("authn_context", "").split())


def _oidc_request(
    ctx: AppContext, row: SourceSignIn, ours: dict[str, str], state: str, keys: list[sign_in_keys.OurKey]
) -> _ProviderRequest:
    nonce, verifier = secrets.token_urlsafe(24), secrets.token_urlsafe(48)
    url = flow.start(
        provider_metadata.oidc_provider(row.provider),
        client_of(ctx, row, ours, keys),
        state,
        nonce,
        verifier,
        required_of(row),
    )
    secret = ctx.keys.encrypt(orjson.dumps([nonce, verifier]).decode())
    return _ProviderRequest(url, None, {"secret": secret})


def source_for_email(ctx: AppContext, email: str) -> SignInForEmail:
    """Return the source through which a user signs in: the one that owns the domain of the email address,
    else the only one.

    Several sources that own the domain are returned as choices. The result does not tell whether the address
    is known.
    """
    domain = fold(email.rpartition("@")[2].strip())
    with ctx.database.reading() as connection:
        every = [each for each in sign_in_rows.list_sign_ins(connection) if each.status != DISABLED]
        local = bool(settings.read(connection)["local_users"]) and passwords.exist(connection)
        in_domain = local and bool(domain) and passwords.exist(connection, domain)
    rows = [row for row in every if row.serves != OPERATORS]
    owning = _owning(rows, domain)
    found = owning[0] if len(owning) == 1 else rows[0] if len(rows) == 1 and not owning and email else None
    named = None if found is None else KeyAndLabel(found.key, found.label)
    operators_by = [KeyAndLabel(row.key, row.label) for row in every if row.serves != USERS]
    by_code = found is not None and found.protocol == MAIL
    return SignInForEmail(
        choices=[_choice(row) for row in owning] if len(owning) > 1 else [],
        source=named,
        start="" if found is None else f"/sso/{found.key}/start",
        by_code=by_code,
        # Of a domain with a source, only if local users have addresses of the domain.
        by_password=in_domain if owning else local,
        any=bool(rows) or local,
        for_operators=operators_by,
    )


def choices_for(connection: Connection, email: str) -> list[SignInChoice]:
    """Return the enabled sources that own the domain of an email address."""
    rows = [
        each
        for each in sign_in_rows.list_sign_ins(connection)
        if each.status != DISABLED and each.serves != OPERATORS
    ]
    return [_choice(row) for row in _owning(rows, fold(email.rpartition("@")[2].strip()))]


def _owning(rows: Sequence[NamedSignIn], domain: str) -> list[NamedSignIn]:
    return [row for row in rows if domain and domain in source_policies.sign_in_policy(row).domains]


def _choice(row: NamedSignIn) -> SignInChoice:
    return SignInChoice(
        key=row.key,
        label=row.label,
        start=f"/sso/{row.key}/start",
        by_code=row.protocol == MAIL,
    )
