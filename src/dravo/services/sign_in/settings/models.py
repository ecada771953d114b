"""The settings of sign-in, by protocol, and how they are read."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from dravo.core.errors import InvalidInput, did_you_mean
from dravo.protocols.http_client import check_url
from dravo.protocols.trust import read_ca
from dravo.services.sign_in.settings.protocols import MAIL, OIDC, PROTOCOLS, SAML


class Common(BaseModel):
    """Settings of every protocol."""

    model_config = ConfigDict(extra="forbid")

    import_groups: bool = True
    claim_days: int = Field(30, ge=0, le=3_660)
    inactive_days: int = Field(0, ge=0, le=3_660)
    refresh: bool = False
    pilot: str = Field("", max_length=200)
    support_contact: str = Field("", max_length=300)


class ByProvider(Common):
    """Settings of sign-in through a provider."""

    clock_skew: int = Field(60, ge=0, le=300)
    subject_claim: str = Field("", max_length=300)
    force_authn: bool = False
    # Accepted authentication contexts (AuthnContextClassRef, acr), with blanks between them.
    authn_context: str = Field("", max_length=1_000)
    # Whether users who sign out of Dravo are signed out at the provider too, and at which URL; empty for the
    # URL that the provider publishes.
    single_logout: bool = True
    logout_url: str = Field("", max_length=2_000)
    # Certificates of the provider's own authority, as PEM.
    ca: str = Field("", max_length=100_000)


class SamlSettings(ByProvider):
    """Settings of SAML."""

    metadata_url: str = Field("", max_length=2_000)
    auto_accept_certificates: bool = False
    allow_idp_initiated: bool = False
    sign_requests: bool = True
    # Binding of requests; empty for HTTP-Redirect where the provider offers it.
    request_binding: Literal["", "redirect", "post"] = ""
    max_validity_hours: int = Field(1, ge=1, le=24)


class OidcSettings(ByProvider):
    """Settings of OpenID Connect."""

    issuer: str = Field("", max_length=2_000)
    client_id: str = Field("", max_length=300)
    scopes: str = Field("openid profile email", max_length=500)
    private_key_jwt: bool = False
    userinfo: bool = True


class MailSettings(Common):
    """Settings of emailed codes."""

    # Values of users who registered themselves do not expire, because no source reports them again.
    claim_days: int = Field(0, ge=0, le=3_660)
    new_user_group: str = Field("", max_length=200)


# Settings that need no new test sign-in when they change.
UNTESTED = {
    "pilot",
    "support_contact",
    "claim_days",
    "inactive_days",
    "refresh",
    "single_logout",
    "logout_url",
}
_MODELS: dict[str, type[Common]] = {SAML: SamlSettings, OIDC: OidcSettings, MAIL: MailSettings}


def read_settings(protocol: str, document: dict[str, Any]) -> Common:
    """Return settings that were checked.

    Raises:
        InvalidInput: naming the setting at fault.
    """
    model = _MODELS.get(protocol)
    if model is None:
        raise InvalidInput(
            f"'{protocol}' is not a valid protocol.", f"Use one of: {', '.join(PROTOCOLS)}.", "protocol"
        )
    try:
        found = model.model_validate(
            {name: value.strip() if isinstance(value, str) else value for name, value in document.items()}
        )
    except ValidationError as wrong:
        first = wrong.errors()[0]
        name = ".".join(str(part) for part in first["loc"])
        if first["type"] == "extra_forbidden":
            raise InvalidInput(
                f"There is no setting '{name}'.", did_you_mean(name, model.model_fields), name
            ) from None
        raise InvalidInput(
            f"The setting '{name}' is invalid: {first['msg']}.", "Correct the setting.", name
        ) from None
    if isinstance(found, SamlSettings) and found.metadata_url:
        found.metadata_url = check_url(found.metadata_url, "metadata_url")
    if isinstance(found, ByProvider):
        found.ca = read_ca(found.ca)
        found.logout_url = check_url(found.logout_url, "logout_url") if found.logout_url else ""
    if isinstance(found, OidcSettings) and found.issuer:
        found.issuer = check_url(found.issuer, "issuer")
    return found


def with_defaults(protocol: str, stored: dict[str, Any]) -> dict[str, Any]:
    """Return stored settings with the default of each setting that was added since they were saved."""
    return {**_MODELS[protocol].model_validate({}).model_dump(), **stored}


def carried_over(protocol: str, before: dict[str, Any]) -> dict[str, Any]:
    """Return the settings of another protocol, with the values of settings that both have.

    A claim names the subject in its own way in each protocol, so that its name is not one of them.
    """
    model = _MODELS[protocol]
    shared = {name: value for name, value in before.items() if name in model.model_fields}
    return model.model_validate(
        {**shared, **({"subject_claim": ""} if "subject_claim" in shared else {})}
    ).model_dump()


def changed_defaults(before: str, after: str, stored: dict[str, Any]) -> list[str]:
    """Return the names of settings that differ from their default and that another protocol does not have."""
    defaults = with_defaults(before, {})
    return sorted(
        name
        for name, value in stored.items()
        if value != defaults.get(name) and name not in _MODELS[after].model_fields
    )
