"""The setup checklist of inbound SCIM: values for the other side, and what traffic has verified."""

from __future__ import annotations

import ipaddress
from dataclasses import dataclass, replace
from urllib.parse import urlsplit

from dravo.core.instants import Instant
from dravo.services.context import AppContext
from dravo.services.lookups import pushing_source
from dravo.services.sources.observations import PROBLEMS, SCIM_CHECKLIST
from dravo.store import clock
from dravo.store.queries.references import KeyAndLabel
from dravo.store.sources import observations, tokens


@dataclass
class ChecklistItem:
    """A checklist item that real traffic verifies."""

    what: str
    label: str
    first_at: str | None
    last_at: str | None


@dataclass
class ChecklistValue:
    """A value to enter on the other side."""

    name: str
    value: str
    note: str


@dataclass
class ChecklistTrouble:
    """A rejected or misdirected request."""

    at: Instant
    message: str


@dataclass(frozen=True)
class SetupChecklist:
    """The setup checklist of inbound SCIM.

    Attributes:
        warnings: why other systems may not reach the given addresses.
        text: the checklist to send, without the token.
    """

    source: KeyAndLabel
    give: list[ChecklistValue]
    usable_tokens: int
    provider_steps: list[str]
    ticks: list[ChecklistItem]
    trouble: list[ChecklistTrouble]
    warnings: list[str]
    text: str = ""


def address_warnings(base: str) -> list[str]:
    """Return why other systems may not reach this service at its address; none for a usual address."""
    host = urlsplit(base).hostname or ""
    try:
        local = ipaddress.ip_address(host).is_loopback or ipaddress.ip_address(host).is_unspecified
    except ValueError:
        local = host == "localhost" or host.endswith(".localhost")
    if local:
        return [
            f"The addresses name this machine ({host}), which other systems cannot reach. Start the service "
            "with --public-url, such as https://dravo.fernhollow.example."
        ]
    if base.startswith("http://"):
        return [
            "The addresses are not encrypted (http). Many providers accept https only. Put a proxy with a "
            "certificate in front, and start the service with --public-url."
        ]
    return []


def checklist(ctx: AppContext, key: str, base: str) -> SetupChecklist:
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
    found = SetupChecklist(
        source=KeyAndLabel(source.key, source.label),
        give=[
            ChecklistValue(
                name="SCIM base URL",
                value=address,
                note="Also called tenant URL or SCIM endpoint.",
            ),
            ChecklistValue(name="Scheme", value=scheme, note="If the URL is entered in parts."),
            ChecklistValue(name="Host and port", value=host, note="If the URL is entered in parts."),
            ChecklistValue(name="Path", value=f"/{path}", note="If the URL is entered in parts."),
            ChecklistValue(name="Source key", value=key, note="The last part of the path."),
            ChecklistValue(
                name="Authentication",
                value="Bearer token",
                note="In the Authorization header (RFC 6750). Create a token below.",
            ),
        ],
        usable_tokens=usable,
        provider_steps=[
            "Enable create, update and deactivate for users.",
            "Enable groups with members if groups assign roles. Send the group name as displayName.",
            "Send a unique, stable userName, the email address as emails, and the provider's own ID as "
            "externalId.",
        ],
        ticks=[
            ChecklistItem(
                what=what,
                label=label,
                first_at=seen[what].first_at if what in seen else None,
                last_at=seen[what].last_at if what in seen else None,
            )
            for what, label in SCIM_CHECKLIST
        ],
        trouble=[
            ChecklistTrouble(at=seen[what].last_at, message=seen[what].detail or "")
            for what in PROBLEMS
            if what in seen and seen[what].detail
        ],
        warnings=address_warnings(base),
    )
    return replace(found, text=_to_send(found))


def _to_send(checklist: SetupChecklist) -> str:
    """Return the checklist as text for the administrator of the other side, without the token."""
    width = max(len(each.name) for each in checklist.give)
    waiting = [each.label for each in checklist.ticks if each.first_at is None]
    lines = [
        f"Connecting '{checklist.source.label}' by SCIM 2.0 (RFC 7643, RFC 7644)",
        "",
        "Enter at the identity provider:",
        *(f"  {each.name:<{width}}  {each.value}" for each in checklist.give),
        f"  {'Token':<{width}}  sent separately; keep it secret",
        "",
        "Enable:",
        *(f"  - {each}" for each in checklist.provider_steps),
    ]
    if waiting:
        lines += ["", "Not verified yet:", *(f"  - {each}" for each in waiting)]
    return "\n".join(lines) + "\n"
