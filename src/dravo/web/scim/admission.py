"""Who may call inbound SCIM, and the trace of each request."""

from __future__ import annotations

from dataclasses import dataclass, field
from urllib.parse import unquote_plus

import structlog
from flask import Blueprint, Flask, Response, current_app, g, request

from dravo.core.scim.errors import ScimError
from dravo.services import lookups
from dravo.services.context import AppContext
from dravo.services.scim_server.handler import ScimHandler
from dravo.services.scim_server.request_log import TraceDraft
from dravo.services.security.rate_limits import RateLimiter
from dravo.services.sources import observations
from dravo.services.sources.scim_auth import ScimAuthenticator, ScimCaller
from dravo.store.background_writer import BackgroundWriter
from dravo.web.callers import place
from dravo.web.scim.messages import check_size, scim_response, source_key

EXTENSION = "dravo_scim"

log = structlog.get_logger("scim")


@dataclass(frozen=True)
class ScimServer:
    """What the routes of inbound SCIM use.

    Attributes:
        handler: carries requests out.
        authenticator: checks SCIM tokens.
        traces: writes the traces of requests.
        limiter: limits calls with a wrong token, by address.
    """

    handler: ScimHandler
    authenticator: ScimAuthenticator
    traces: BackgroundWriter
    limiter: RateLimiter = field(default_factory=lambda: RateLimiter(200, 60))


def install(app: Flask, ctx: AppContext) -> None:
    """Make the data folder available to the routes of inbound SCIM."""
    app.extensions[EXTENSION] = ScimServer(ScimHandler(ctx), ScimAuthenticator(ctx), ctx.traces)


def server() -> ScimServer:
    """Return the server of the current app."""
    installed: ScimServer = current_app.extensions[EXTENSION]
    return installed


def register(routes: Blueprint) -> None:
    """Check the token before each request of a blueprint, and write its trace afterwards."""
    routes.before_request(_admit)
    routes.after_request(_write_trace)


def _admit() -> Response | None:
    scim, key = server(), source_key()
    scheme, _, token = request.headers.get("Authorization", "").partition(" ")
    caller = scim.authenticator.admit(key, token.strip() if scheme.lower() == "bearer" else None)
    if not isinstance(caller, ScimCaller):
        return _reject(scim, key, caller)
    g.scim_caller = caller
    g.draft = _draft(caller.source_id)
    scim.handler.observed.note(caller.source_id, observations.CALL, token_id=caller.token_id)
    check_size()
    return None


def _reject(scim: ScimServer, key: str, reason: str) -> Response:
    """Answer 401. Only wrong tokens are limited, so that a good token works whatever others send."""
    address = place()
    scim.limiter.check(address)
    scim.limiter.failed(address)
    scim.handler.observed.note_refusal(
        key, f"{request.method} {request.path} from {request.remote_addr or ''}: {reason}"
    )
    source_id = scim.handler.source_id(key)
    if source_id:
        scim.traces.add(_draft(source_id).row(401, f"Rejected: {reason}"))
    log.info("rejected", source=key, method=request.method, path=request.path, reason=reason)
    response = scim_response(ScimError(401, reason).body(), 401)
    realm = f' realm="dravo inbound SCIM {key}"' if lookups.KEY.fullmatch(key) else ""
    response.headers["WWW-Authenticate"] = f"Bearer{realm}"
    return response


def _draft(source_id: str) -> TraceDraft:
    """Return the beginning of the trace of this request, with the path below the source's base URL."""
    path = request.path.removeprefix(f"/scim/v2/{source_key()}") or "/"
    # Decoded, so that operators can search for the words of a filter.
    query = unquote_plus(request.query_string.decode("utf-8", "replace")) or None
    return TraceDraft(source_id, request.method, path, query)


def _write_trace(response: Response) -> Response:
    draft: TraceDraft | None = g.get("draft")
    if draft is not None and not draft.written:
        try:
            server().traces.add(draft.row(response.status_code, g.get("outcome") or _outcome(response)))
        except Exception:
            # A trace never decides the response.
            log.error("a request could not be traced", path=request.path[:500], exc_info=True)
    return response


def _outcome(response: Response) -> str:
    if response.status_code == 304:
        return "Read, unchanged."
    reads = request.method in ("GET", "HEAD") or request.path.rstrip("/").endswith("/.search")
    if response.status_code >= 300 and not request.path.rstrip("/").endswith("/.search"):
        return f"Refused ({response.status_code})."
    return "Read." if reads else "No change."
