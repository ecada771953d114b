"""Tests sign-in settings before they are saved: asks the provider, and changes nothing."""

from __future__ import annotations

import secrets
from collections.abc import Iterator
from dataclasses import dataclass, replace
from typing import Any
from urllib.parse import urlsplit

from dravo.core.errors import DravoError
from dravo.core.instants import later
from dravo.protocols.oidc import flow
from dravo.services.context import AppContext
from dravo.services.lookups import pushing_source
from dravo.services.results import CheckStep
from dravo.services.security.operator_sso import USERS
from dravo.services.security.permissions import Caller
from dravo.services.sign_in import keys as sign_in_keys
from dravo.services.sign_in import provider_metadata
from dravo.services.sign_in.settings.models import read_settings
from dravo.services.sign_in.settings.protocols import MAIL, OIDC, SAML
from dravo.services.sign_in.settings.provider import BY_HAND, certificates_of, find_provider
from dravo.services.sign_in.settings.settings import (
    DISABLED,
    changed_values,
    check_super_administrator,
    has_moved,
    missing,
)
from dravo.services.sign_in.verification import addresses, client_of, seconds_of
from dravo.store import clock
from dravo.store.sources import settings as source_settings
from dravo.store.sources.settings import SourceSignIn

OK, FAILED, WARNING, SKIPPED = "ok", "failed", "warning", "skipped"
# A certificate that ends so soon is a warning.
SOON_DAYS = 30
DAY = 86_400


@dataclass(frozen=True)
class SignInCheck:
    """The result of a test of sign-in settings."""

    ok: bool
    steps: list[CheckStep]


def check(ctx: AppContext, caller: Caller, key: str, given: dict[str, Any], base: str) -> SignInCheck:
    """Test sign-in settings against the provider; nothing is saved.

    Args:
        key: the key of the source.
        given: as in `settings.change`; what is not given is taken from the saved settings.
        base: the public address of this service.

    Raises:
        InvalidInput: for values that could not be saved.
        NotFound, NotPermitted.
    """
    with ctx.database.reading() as connection:
        source = pushing_source(connection, key)
        row = source_settings.sign_in_of(connection, source.id)
        keys = sign_in_keys.of_source(ctx, connection, source.id)
    check_super_administrator(caller, row, given.get("serves"))
    protocol = row.protocol if row is not None else given.get("protocol") or ""
    before = row.settings if row is not None else {}
    settings = read_settings(protocol, {**before, **(given.get("settings") or {})}).model_dump()
    planned = _planned(ctx, source.id, row, protocol, settings, given)
    steps: list[CheckStep] = []
    found = planned.provider
    if protocol != MAIL:
        by_address = settings.get("metadata_url") or settings.get("issuer")
        is_by_hand = found.get("from") == BY_HAND and not given.get("look")
        asks = {**given, "look": bool(by_address) and not is_by_hand}
        try:
            found = find_provider(protocol, settings, before, found, asks) or found
            steps.append(_provider_step(protocol, found))
        except DravoError as wrong:
            steps.append(CheckStep("Provider", FAILED, wrong.message, wrong.hint))
    trouble = found.get("trouble")
    if trouble:
        steps.append(CheckStep("Keys", FAILED, trouble, ""))
    planned = replace(planned, provider={name: value for name, value in found.items() if name != "trouble"})
    if row is not None and given.get("secret") is None and has_moved(row, {"provider": planned.provider}):
        planned = replace(planned, secret=None)
    steps += _certificate_steps(planned) if protocol == SAML else ()
    steps += _client_steps(ctx, planned, addresses(base, key), keys) if protocol == OIDC else ()
    with ctx.database.reading() as connection:
        lacking = missing(connection, planned)
    if lacking:
        hint = "Enter these values. You can save incomplete settings."
        steps.append(CheckStep("Values", FAILED, f"Missing: {', '.join(lacking)}.", hint))
    else:
        message = "All values are there. After saving, create a test sign-in: it tests the whole way."
        steps.append(CheckStep("Values", OK, message, ""))
    return SignInCheck(all(each.outcome != FAILED for each in steps), steps)


def _planned(
    ctx: AppContext,
    source_id: str,
    row: SourceSignIn | None,
    protocol: str,
    settings: dict[str, Any],
    given: dict[str, Any],
) -> SourceSignIn:
    """Return the row as it would be saved, with the provider as known before."""
    values, _ = changed_values(ctx, protocol, row, given, settings)
    if row is not None:
        return replace(row, **values)
    now = clock.now()
    return SourceSignIn(
        source_id=source_id,
        protocol=protocol,
        settings=settings,
        provider={},
        policy=values.get("policy"),
        secret=values.get("secret"),
        status=DISABLED,
        enabled_from=None,
        serves=USERS,
        verified_at=None,
        looked_at=None,
        trouble=None,
        waiting=None,
        changed_at=now,
    )


def _provider_step(protocol: str, found: dict[str, Any]) -> CheckStep:
    name = found.get("entity_id") if protocol == SAML else found.get("issuer")
    if not name:
        return CheckStep(
            "Provider", SKIPPED, "The provider is not known yet.", "Enter its address or values."
        )
    how = "by its address" if found.get("from") == "address" else "as entered"
    return CheckStep("Provider", OK, f"Known {how}: '{name}'.", "")


def _certificate_steps(row: SourceSignIn) -> Iterator[CheckStep]:
    """Check the signing certificates of a SAML provider: at least one must be valid now."""
    found = certificates_of(row)
    now = clock.now()
    valid = [each for each in found if each.until > now]
    if not found:
        return
    if not valid:
        last = max(each.until for each in found)
        yield CheckStep(
            "Certificate",
            FAILED,
            f"The certificate of the provider expired on {last[:10]}.",
            "Ask the administrator of the provider for the present certificate.",
        )
        return
    last = max(each.until for each in valid)
    soon = last < later(now, DAY * SOON_DAYS)
    hint = "Ask the administrator of the provider for the next certificate." if soon else ""
    yield CheckStep("Certificate", WARNING if soon else OK, f"Valid until {last[:10]}.", hint)


def _client_steps(
    ctx: AppContext, row: SourceSignIn, ours: dict[str, str], keys: list[sign_in_keys.OurKey]
) -> Iterator[CheckStep]:
    """Check the scopes and the client at an OpenID provider.

    Dravo asks the token endpoint for a token with a code that does not exist: a provider that accepts the
    client answers `invalid_grant` (RFC 6749, section 5.2).
    """
    known, settings = row.provider, row.settings
    if not known.get("token"):
        return
    if known.get("from") != BY_HAND:
        unknown = [each for each in settings["scopes"].split() if each not in known.get("scopes", ())]
        if unknown:
            yield CheckStep(
                "Scopes",
                WARNING,
                f"The provider does not list the scope {', '.join(unknown)}.",
                "Compare the scopes with the documentation of the provider.",
            )
        else:
            yield CheckStep("Scopes", OK, "The provider lists all requested scopes.", "")
    if not settings["client_id"] or not (row.secret or (settings["private_key_jwt"] and keys)):
        hint = (
            "Enter the client secret again." if settings["client_id"] else "Enter the client ID and secret."
        )
        yield CheckStep("Client", SKIPPED, "Dravo cannot test the client without its credentials.", hint)
        return
    yield _client_step(
        row,
        flow.token_request(
            provider_metadata.oidc_provider(known),
            client_of(ctx, row, ours, keys),
            code=secrets.token_urlsafe(24),
            verifier=secrets.token_urlsafe(48),
            now=seconds_of(clock.now()),
            once=secrets.token_urlsafe(24),
        ),
    )


def _client_step(row: SourceSignIn, request: tuple[dict[str, str], dict[str, str]]) -> CheckStep:
    form, headers = request
    address = row.provider["token"]
    try:
        answer = provider_metadata.fetch(
            address, provider_metadata.JSON, form=form, headers=headers, ca=row.settings["ca"]
        )
    except DravoError as wrong:
        return CheckStep("Client", FAILED, wrong.message, wrong.hint)
    error = str((answer.document or {}).get("error", ""))
    if error == "invalid_grant":
        return CheckStep("Client", OK, "The provider accepts the client ID and its credentials.", "")
    host = urlsplit(address).netloc
    if error in ("invalid_client", "unauthorized_client") or answer.status == 401:
        hint = "Compare the client ID and the client secret on both sides."
        return CheckStep("Client", FAILED, f"{host} does not accept the client: {error or 401}.", hint)
    said = f"{answer.status} {error}".strip()
    return CheckStep(
        "Client",
        WARNING,
        f"{host} answers a request with an unknown code by '{said[:100]}', which proves nothing.",
        "Save the settings, and create a test sign-in.",
    )
