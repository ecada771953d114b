"""The setup checklist of inbound SCIM: values for the other side, and what traffic has verified."""

from __future__ import annotations

from typing import Any

from dravo.services.context import AppContext
from dravo.services.lookups import pushing_source
from dravo.services.sources.observations import PROBLEMS, SCIM_CHECKLIST
from dravo.store import clock
from dravo.store.sources import observations, tokens


def checklist(ctx: AppContext, key: str, base: str) -> dict[str, Any]:
    """Return the setup checklist of a source's inbound SCIM: values to send, settings of the other side, and
    verified steps.

    Args:
        base: the address of this service, without a slash at its end.
    """
    now = clock.now()
    with ctx.database.reading() as connection:
        source = pushing_source(connection, key)
        seen = observations.of_source(connection, source.id)
        usable = tokens.number_of_valid(connection, source.id, now)
    address = f"{base}/scim/v2/{key}"
    scheme, _, rest = address.partition("://")
    host, _, path = rest.partition("/")
    found = {
        "source": {"key": source.key, "label": source.label},
        "give": [
            {"name": "SCIM base URL", "value": address, "note": "Also called tenant URL or SCIM endpoint."},
            {"name": "Scheme", "value": scheme, "note": "If the URL is entered in parts."},
            {"name": "Host and port", "value": host, "note": "If the URL is entered in parts."},
            {"name": "Path", "value": f"/{path}", "note": "If the URL is entered in parts."},
            {
                "name": "Authentication",
                "value": "Bearer token",
                "note": "In the Authorization header (RFC 6750). Create a token below.",
            },
        ],
        "usable_tokens": usable,
        "provider_steps": [
            "Enable create, update and deactivate for users.",
            "Enable groups with members if groups assign roles. Send the group name as displayName.",
            "Send a unique, stable userName, the email address as emails, and the provider's own ID as "
            "externalId.",
        ],
        "ticks": [
            {
                "what": what,
                "label": label,
                "first_at": seen[what].first_at if what in seen else None,
                "last_at": seen[what].last_at if what in seen else None,
            }
            for what, label in SCIM_CHECKLIST
        ],
        "trouble": [
            {"at": seen[what].last_at, "message": seen[what].detail}
            for what in PROBLEMS
            if what in seen and seen[what].detail
        ],
    }
    return {**found, "text": _to_send(found)}


def _to_send(checklist: dict[str, Any]) -> str:
    """Return the checklist as text for the administrator of the other side, without the token."""
    width = max(len(each["name"]) for each in checklist["give"])
    waiting = [each["label"] for each in checklist["ticks"] if each["first_at"] is None]
    lines = [
        f"Connecting '{checklist['source']['label']}' by SCIM 2.0 (RFC 7643, RFC 7644)",
        "",
        "Enter at the identity provider:",
        *(f"  {each['name']:<{width}}  {each['value']}" for each in checklist["give"]),
        f"  {'Token':<{width}}  sent separately; keep it secret",
        "",
        "Enable:",
        *(f"  - {each}" for each in checklist["provider_steps"]),
    ]
    if waiting:
        lines += ["", "Not verified yet:", *(f"  - {each}" for each in waiting)]
    return "\n".join(lines) + "\n"
