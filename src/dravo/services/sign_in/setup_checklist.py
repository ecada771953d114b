"""The setup checklist of sign-in: values for the provider, values from the provider, and what traffic has
verified.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

from sqlalchemy import Connection

from dravo.core.instants import Instant
from dravo.protocols.saml.certificates import Certificate
from dravo.protocols.saml.metadata import our_metadata
from dravo.services.context import AppContext
from dravo.services.results import SampleAttribute
from dravo.services.security.permissions import ATTRIBUTES, Caller
from dravo.services.sign_in import keys as sign_in_keys
from dravo.services.sign_in import traces as sign_in_traces
from dravo.services.sign_in.keys import OurKey
from dravo.services.sign_in.settings import provider as provider_settings
from dravo.services.sign_in.settings import settings as sign_in_settings
from dravo.services.sign_in.settings.models import with_defaults
from dravo.services.sign_in.settings.protocols import MAIL, PROTOCOLS, SAML
from dravo.services.sign_in.settings.provider import KnownProvider
from dravo.services.sign_in.verification import addresses
from dravo.services.sources import policy as source_policies
from dravo.services.sources.observations import EMAIL_CODE_CHECKLIST, SIGN_IN_CHECKLIST
from dravo.services.sources.scim_checklist import ChecklistItem, ChecklistValue, address_warnings
from dravo.store.queries.references import KeyAndLabel
from dravo.store.sources import observations
from dravo.store.sources.settings import SourceSignIn

PERSISTENT = "urn:oasis:names:tc:SAML:2.0:nameid-format:persistent"


@dataclass
class OurCertificate:
    """A certificate of Dravo; `use` is "active", "next" or "previous"."""

    pem: str
    body: str
    fingerprint: str
    from_at: str
    until_at: str
    use: str


@dataclass(frozen=True)
class SignInSetup:
    """The sign-in settings of a source with the setup checklist.

    Attributes:
        warnings: why other systems may not reach the given addresses.
        text: the checklist to send.
    """

    source: KeyAndLabel
    protocol: str
    protocol_label: str
    settings: dict[str, Any]
    has_secret: bool
    policy: dict[str, Any]
    status: str
    serves: str
    enabled_from: Instant | None
    verified_at: Instant | None
    missing: list[str]
    provider: KnownProvider
    looked_at: Instant | None
    trouble: str
    give: list[ChecklistValue]
    certificates: list[OurCertificate]
    ticks: list[ChecklistItem]
    seen: list[SampleAttribute]
    provider_steps: list[str]
    start: str
    warnings: list[str]
    text: str = ""


def shown(ctx: AppContext, caller: Caller, key: str, base: str) -> SignInSetup:
    """Return how users sign in by a source, with its setup checklist.

    Args:
        base: the public address of this service, without a slash at its end.

    Raises:
        NotFound.
    """
    with ctx.database.reading() as connection:
        source, row = source_policies.sign_in_of(connection, key)
        keys = sign_in_keys.of_source(ctx, connection, source.id)
        ticks = _ticks(
            connection, source.id, EMAIL_CODE_CHECKLIST if row.protocol == MAIL else SIGN_IN_CHECKLIST
        )
        lacking = sign_in_settings.missing(connection, row)
    found = SignInSetup(
        source=KeyAndLabel(source.key, source.label),
        protocol=row.protocol,
        protocol_label=PROTOCOLS[row.protocol],
        settings=with_defaults(row.protocol, row.settings),
        has_secret=bool(row.secret),
        policy=source_policies.sign_in_policy(row).document(),
        status=row.status,
        serves=row.serves,
        enabled_from=row.enabled_from,
        verified_at=row.verified_at,
        missing=lacking,
        provider=provider_settings.as_fields(row),
        looked_at=row.looked_at,
        trouble=row.trouble or "",
        give=_give(row, base, key),
        certificates=[_certificate(each) for each in keys],
        ticks=ticks,
        seen=_seen(ctx, caller, key),
        provider_steps=_switch_on(row),
        start=addresses(base, key)["start"],
        warnings=address_warnings(base),
    )
    return replace(found, text=_to_send(found))


def _seen(ctx: AppContext, caller: Caller, key: str) -> list[SampleAttribute]:
    """Return the claims of the last sign-ins; without values if attributes are hidden."""
    seen = sign_in_traces.attributes_seen(ctx, key)
    return seen if ATTRIBUTES in caller.permissions else [SampleAttribute(each.name, []) for each in seen]


def _ticks(
    connection: Connection, source_id: str, sights: tuple[tuple[str, str], ...]
) -> list[ChecklistItem]:
    seen = observations.of_source(connection, source_id)
    return [
        ChecklistItem(
            what=what,
            label=label,
            first_at=seen[what].first_at if what in seen else None,
            last_at=seen[what].last_at if what in seen else None,
        )
        for what, label in sights
    ]


def _certificate(each: OurKey) -> OurCertificate:
    made: Certificate = each.certificate
    return OurCertificate(
        pem=made.pem,
        body=made.body,
        fingerprint=made.fingerprint,
        from_at=made.from_,
        until_at=made.until,
        use="active" if each.signs else "previous" if each.retired_at is not None else "next",
    )


def _give(row: SourceSignIn, base: str, key: str) -> list[ChecklistValue]:
    ours = addresses(base, key)
    if row.protocol == MAIL:
        return [
            ChecklistValue(
                name="Sign-in page",
                value=f"{base}/sign-in",
                note="Share this address with your users. They enter their email address and get a code.",
            )
        ]
    scheme, _, rest = base.partition("://")
    parts = [
        ChecklistValue(name="Scheme", value=scheme, note="If the URL is entered in parts."),
        ChecklistValue(
            name="Host and port",
            value=rest.partition("/")[0],
            note="If the URL is entered in parts.",
        ),
        ChecklistValue(name="Source key", value=key, note="A part of the path."),
    ]
    if row.protocol == SAML:
        return [
            ChecklistValue(
                name="Metadata",
                value=ours["entity_id"],
                note="Contains all values below. Use it if the provider can read metadata.",
            ),
            ChecklistValue(
                name="Entity ID",
                value=ours["entity_id"],
                note="Also called audience, identifier or issuer.",
            ),
            ChecklistValue(
                name="ACS URL",
                value=ours["acs"],
                note="Assertion consumer service (HTTP-POST). Also called recipient or destination.",
            ),
            ChecklistValue(
                name="NameID format",
                value=PERSISTENT,
                note="A NameID that never changes for a user.",
            ),
            ChecklistValue(
                name="Single logout URL",
                value=ours["sign_out"],
                note="Single logout (HTTP-Redirect). Optional.",
            ),
            *parts,
            ChecklistValue(name="Path", value=f"/sso/{key}/saml/acs", note="Of the ACS URL."),
        ]
    return [
        ChecklistValue(
            name="Redirect URI",
            value=ours["redirect"],
            note="Also called callback URL. It must match exactly.",
        ),
        ChecklistValue(name="Post-logout redirect URI", value=ours["signed_out"], note="Optional."),
        ChecklistValue(
            name="Flow",
            value="authorization code with PKCE (S256)",
            note="The flow that Dravo uses.",
        ),
        ChecklistValue(name="Scopes", value=row.settings["scopes"], note="The scopes that Dravo requests."),
        ChecklistValue(name="JWKS URL", value=ours["keys"], note="Only for private_key_jwt."),
        *parts,
        ChecklistValue(name="Path", value=f"/sso/{key}/oidc/callback", note="Of the redirect URI."),
    ]


def _switch_on(row: SourceSignIn) -> list[str]:
    if row.protocol == MAIL:
        return ["Allow emails from the sender address, so that no filter blocks the codes."]
    if row.protocol == SAML:
        return [
            "Sign the assertion or the response, with RSA or ECDSA and SHA-256.",
            "Send user name, email address, given name and family name as attributes, with short or "
            "namespaced names.",
            "Send the groups of the user as values of one attribute, by name or ID.",
            "Assign the users to this application at the provider.",
        ]
    return [
        "Register Dravo as a client, with a secret or the JWKS URL, and the exact redirect URI.",
        "Send preferred_username, email, email_verified, given_name and family_name in the ID token or "
        "from the UserInfo endpoint.",
        "Send the groups of the user in the claim groups.",
        "Assign the users to this application at the provider.",
    ]


def metadata(ctx: AppContext, key: str, base: str) -> bytes:
    """Return our SAML metadata for a source's provider.

    Raises:
        NotFound.
    """
    with ctx.database.reading() as connection:
        source, _ = source_policies.sign_in_of(connection, key)
        keys = sign_in_keys.of_source(ctx, connection, source.id)
    ours = addresses(base, key)
    known = [each.certificate for each in keys if each.retired_at is None]
    return our_metadata(ours["entity_id"], ours["acs"], known, known, ours["sign_out"])


def _to_send(checklist: SignInSetup) -> str:
    """Return the checklist as text for the administrator of the provider, without secrets."""
    width = max(len(each.name) for each in checklist.give)
    lines = [
        f"Sign-in with '{checklist.source.label}' through {checklist.protocol_label}",
        "",
        "Tell your users:" if checklist.protocol == MAIL else "Enter at the provider:",
        *(f"  {each.name:<{width}}  {each.value}" for each in checklist.give),
        "",
        "Steps at the provider:",
        *(f"  - {each}" for each in checklist.provider_steps),
    ]
    if checklist.missing:
        lines += ["", "Send us:", *(f"  - {each}" for each in checklist.missing)]
    if checklist.protocol == SAML and checklist.certificates:
        lines += ["", "Certificate of Dravo for signing and encryption:", checklist.certificates[0].pem]
    waiting = [each.label for each in checklist.ticks if each.first_at is None]
    if waiting:
        lines += ["", "Not verified yet:", *(f"  - {each}" for each in waiting)]
    return "\n".join(lines) + "\n"
