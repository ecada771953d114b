"""The connection check: step by step, each with its answer and its mend."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from dravo.protocols.scim.conversation import looks_like_a_page, not_scim, said
from dravo.protocols.scim.outgoing import Client, Connection, NotAllowed, Request, Response, Unreachable

OK, WRONG, SKIPPED = "ok", "wrong", "not tried"
# Where services are usually found when only the host was given.
USUAL_ENDINGS = ("/scim/v2", "/scim", "/v2")


def check_connection(connection: Connection) -> dict[str, Any]:
    """Try a connection.

    Returns:
        {"ok": bool, "steps": [{"name", "outcome" ("ok", "wrong", "not tried"), "message", "mend"}],
        "capabilities": {"patch", "filter", "bulk", "max_results"} or None}.
    """
    client = Client()
    try:
        return _check(client, connection)
    finally:
        client.close()


def _check(client: Client, connection: Connection) -> dict[str, Any]:
    steps: list[dict[str, str]] = []

    def step(name: str, outcome: str, message: str, mend: str = "") -> None:
        steps.append({"name": name, "outcome": outcome, "message": message, "mend": mend})

    def result(capabilities: dict[str, Any] | None) -> dict[str, Any]:
        for name in ("Address", "Service", "Token", "Reading"):
            if name not in {each["name"] for each in steps}:
                step(name, SKIPPED, "An earlier step has to work first.")
        return {"ok": all(each["outcome"] == OK for each in steps), "steps": steps, "capabilities": capabilities}

    try:
        config = client.send(connection, Request("GET", "/ServiceProviderConfig"))
    except NotAllowed as wrong:
        step("Address", WRONG, wrong.message, wrong.mend)
        return result(None)
    except Unreachable as wrong:
        step("Address", WRONG, f"{connection.base_url}: {wrong}.", "Check the host and port, and that the application is running.")
        return result(None)
    step("Address", OK, f"{connection.base_url} answers.")
    if 300 <= config.status < 400:
        step("Service", WRONG, f"It leads elsewhere ({config.status} to {config.location}).", "Give the address that it leads to.")
        return result(None)
    if config.status not in (401, 403) and (not config.ok or config.body is None):
        message, mend = not_scim(config) if config.status < 500 or looks_like_a_page(config) else (said(config), "Try again later.")
        offer = _offer(client, connection)
        step("Service", WRONG, message, f"A SCIM service answers at {offer}: use that." if offer else mend)
        return result(None)
    capabilities = _capabilities(config.body) if config.ok and config.body else None
    step("Service", OK, "It is a SCIM service." if capabilities else "It asks for a token before it says anything.")
    return _check_token(client, connection, step, result, capabilities)


def _check_token(client: Client, connection: Connection, step: Any, result: Any, capabilities: dict[str, Any] | None) -> dict[str, Any]:
    try:
        listing = client.send(connection, Request("GET", "/Users", {"startIndex": "1", "count": "1"}))
    except Unreachable as wrong:
        step("Token", WRONG, f"The list of users: {wrong}.", "Try again; if it stays, ask whoever runs the application.")
        return dict(result(capabilities))
    if listing.status in (401, 403):
        step(
            "Token",
            WRONG,
            f"The token is turned away ({listing.status}): {said(listing)}",
            "Take a token that may read and change users, and paste it whole.",
        )
        return dict(result(capabilities))
    step("Token", OK, "The token is accepted.")
    if not listing.ok or listing.body is None or "totalResults" not in listing.body:
        message, mend = not_scim(listing) if listing.body is None else (said(listing), "Ask whoever runs the application what it misses.")
        step("Reading", WRONG, f"The list of users cannot be read: {message}", mend)
        return dict(result(capabilities))
    step("Reading", OK, f"It has {listing.body['totalResults']} accounts.")
    return dict(result(capabilities))


def _offer(client: Client, connection: Connection) -> str | None:
    """Return an address near the given one at which a SCIM service answers."""
    for ending in USUAL_ENDINGS:
        if connection.base_url.endswith(ending):
            continue
        address = connection.base_url + ending
        try:
            response = client.send(Connection(address, connection.token), Request("GET", "/ServiceProviderConfig"))
        except (Unreachable, NotAllowed):
            continue
        if _is_scim(response):
            return address
    return None


def _is_scim(response: Response) -> bool:
    return response.ok and response.body is not None and "schemas" in response.body


def _capabilities(config: Mapping[str, Any]) -> dict[str, Any]:
    def supported(name: str) -> bool:
        part = config.get(name)
        return isinstance(part, Mapping) and part.get("supported") is True

    filtering = config.get("filter")
    most = filtering.get("maxResults") if isinstance(filtering, Mapping) else None
    return {
        "patch": supported("patch"),
        "filter": supported("filter"),
        "bulk": supported("bulk"),
        "max_results": most if isinstance(most, int) else None,
    }
