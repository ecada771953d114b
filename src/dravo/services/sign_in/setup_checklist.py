"""The setup checklist of sign-in: values for the provider, values from the provider, and what traffic has verified."""

from __future__ import annotations

from typing import Any

from sqlalchemy import Connection, select

from dravo.protocols.saml.certificates import Certificate
from dravo.protocols.saml.metadata import our_metadata
from dravo.services.context import AppContext
from dravo.services.security.permissions import ATTRIBUTES, Caller
from dravo.services.sign_in import keys as sign_in_keys
from dravo.services.sign_in import settings as sign_in_settings
from dravo.services.sign_in import traces as sign_in_traces
from dravo.services.sign_in.keys import OurKey
from dravo.services.sign_in.settings import MAIL, PROTOCOLS, SAML
from dravo.services.sign_in.verification import addresses
from dravo.services.sources import policy as source_policies
from dravo.services.sources.observations import EMAIL_CODE_CHECKLIST, SIGN_IN_CHECKLIST
from dravo.store import tables as t

PERSISTENT = "urn:oasis:names:tc:SAML:2.0:nameid-format:persistent"


def shown(ctx: AppContext, caller: Caller, key: str, base: str) -> dict[str, Any]:
    """Return how people sign in by a source, with its exchange sheet.

    Args:
        base: the public address of this service, without a slash at its end.

    Raises:
        NotFound.
    """
    with ctx.database.reading() as connection:
        source, row = source_policies.sign_in_of(connection, key)
        keys = sign_in_keys.of_source(ctx, connection, source.id)
        ticks = _ticks(connection, source.id, EMAIL_CODE_CHECKLIST if row.protocol == MAIL else SIGN_IN_CHECKLIST)
        lacking = sign_in_settings.missing(connection, row)
    found = {
        "source": {"key": source.key, "label": source.label},
        "protocol": row.protocol, "protocol_label": PROTOCOLS[row.protocol], "settings": row.settings, "has_secret": bool(row.secret),
        "policy": source_policies.sign_in_policy(row).document(), "state": row.state, "serves": row.serves,
        "enabled_from": row.enabled_from, "verified_at": row.verified_at, "missing": lacking,
        "provider": sign_in_settings.as_fields(row), "looked_at": row.looked_at,
        "trouble": row.trouble or "", "give": _give(row, base, key), "certificates": [_certificate(each) for each in keys], "ticks": ticks,
        "seen": _seen(ctx, caller, key), "provider_steps": _switch_on(row), "start": addresses(base, key)["start"],
    }  # fmt: skip
    return {**found, "text": _to_send(found)}


def _seen(ctx: AppContext, caller: Caller, key: str) -> list[dict[str, Any]]:
    """Return what arrived lately; without the values for those for whom people's attributes are masked."""
    seen = sign_in_traces.attributes_seen(ctx, key)
    return seen if ATTRIBUTES in caller.permissions else [{**each, "values": []} for each in seen]


def _ticks(connection: Connection, source_id: str, sights: tuple[tuple[str, str], ...]) -> list[dict[str, Any]]:
    seen = {row.what: row for row in connection.execute(select(t.source_observation).where(t.source_observation.c.source_id == source_id))}
    return [
        {
            "what": what, "label": label, "first_at": seen[what].first_at if what in seen else None,
            "last_at": seen[what].last_at if what in seen else None,
        }
        for what, label in sights
    ]  # fmt: skip


def _certificate(each: OurKey) -> dict[str, Any]:
    made: Certificate = each.certificate
    return {
        "pem": made.pem, "body": made.body, "fingerprint": made.fingerprint, "from_at": made.from_, "until_at": made.until,
        "use": "signs" if each.signs else "was used before" if each.retired_at is not None else "comes next",
    }  # fmt: skip


def _give(row: Any, base: str, key: str) -> list[dict[str, str]]:
    ours = addresses(base, key)
    if row.protocol == MAIL:
        return [{"name": "Sign-in page", "value": f"{base}/sign-in", "note": "Tell it to the people: they give their address, and get a code."}]
    scheme, _, rest = base.partition("://")
    parts = [
        {"name": "Scheme", "value": scheme, "note": "Where an address is asked for in parts."},
        {"name": "Host and port", "value": rest.partition("/")[0], "note": "Where an address is asked for in parts."},
    ]
    if row.protocol == SAML:
        return [
            {"name": "Metadata", "value": ours["entity_id"], "note": "All of the below in one document; take this where it can be read."},
            {"name": "Entity id", "value": ours["entity_id"], "note": "Also asked for as audience, identifier or issuer of ours."},
            {"name": "Address for responses", "value": ours["acs"], "note": "Assertion consumer service (ACS) by HTTP-POST, recipient, destination."},
            {"name": "Name format", "value": PERSISTENT, "note": "A NameID that stays with the person."},
            {"name": "Address for signing out", "value": ours["sign_out"], "note": "Single logout, by HTTP-Redirect; where it is asked for."},
            *parts,
            {"name": "Path", "value": f"/sso/{key}/saml/acs", "note": "Of the address for responses."},
        ]  # fmt: skip
    return [
        {"name": "Redirect address", "value": ours["redirect"], "note": "Also asked for as redirect URI or callback; it has to be the very same."},
        {"name": "Address after signing out", "value": ours["signed_out"], "note": "Also asked for as post-logout redirect; where it is asked for."},
        {"name": "Flow", "value": "authorization code with PKCE (S256)", "note": "No other flow is used."},
        {"name": "Scopes", "value": row.settings["scopes"], "note": "What is asked for."},
        {"name": "Our keys", "value": ours["keys"], "note": "Where the provider knows us by our key (private_key_jwt)."},
        *parts,
        {"name": "Path", "value": f"/sso/{key}/oidc/callback", "note": "Of the redirect address."},
    ]


def _switch_on(row: Any) -> list[str]:
    if row.protocol == MAIL:
        return ["Let mail from our sender through, so that no filter keeps the codes back."]
    if row.protocol == SAML:
        return [
            "Sign the assertion or the whole response, by RSA or ECDSA with SHA-256.",
            "Send user name, e-mail address, given name and family name as attributes; names with or without a namespace are understood.",
            "Send the groups of the person as values of one attribute, by name or by id.",
            "Let the people sign in who are to come in: most providers want them assigned.",
        ]
    return [
        "Register us as a client with a secret (or with our key), and the redirect address as it is.",
        "Let the ID token or the userinfo carry preferred_username, email, email_verified, given_name, family_name.",
        "Send the groups of the person in a claim named groups.",
        "Let the people sign in who are to come in: most providers want them assigned.",
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


def _to_send(sheet: dict[str, Any]) -> str:
    """Return the sheet as text for whoever runs the provider; a secret goes another way."""
    width = max(len(each["name"]) for each in sheet["give"])
    lines = [
        f"Signing in by '{sheet['source']['label']}' with {sheet['protocol_label']}",
        "",
        "Please tell the people:" if sheet["protocol"] == MAIL else "Please enter at your side:",
        *(f"  {each['name']:<{width}}  {each['value']}" for each in sheet["give"]),
        "",
        "Please see to it:",
        *(f"  - {each}" for each in sheet["provider_steps"]),
    ]
    if sheet["missing"]:
        lines += ["", "Please send us:", *(f"  - {each}" for each in sheet["missing"])]
    if sheet["protocol"] == SAML and sheet["certificates"]:
        lines += ["", "Our certificate, for signatures and for encryption:", sheet["certificates"][0]["pem"]]
    waiting = [each["label"] for each in sheet["ticks"] if each["first_at"] is None]
    if waiting:
        lines += ["", "Not seen yet:", *(f"  - {each}" for each in waiting)]
    return "\n".join(lines) + "\n"
