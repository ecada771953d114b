"""Builds the web application: inbound SCIM, sign-in, the management API with its document, the console, and
health.
"""

from __future__ import annotations

import copy
import dataclasses
import functools
import hashlib
import re
import secrets
import threading
from pathlib import Path
from typing import Any

import orjson
from flask import Flask, Response, current_app, g, render_template, request, send_from_directory
from flask.json.provider import JSONProvider
from flask_openapi3.models.info import Info
from werkzeug.exceptions import NotFound

from dravo import __version__
from dravo.core.errors import DravoError
from dravo.services.context import AppContext
from dravo.services.heartbeats import LATE_SECONDS, Heartbeats
from dravo.services.jobs import JobRegistry
from dravo.services.reporting import metrics as reporting_metrics
from dravo.services.security.rate_limits import RateLimiter
from dravo.services.sign_in import email_codes
from dravo.store import clock
from dravo.store.operators import operators as operator_rows
from dravo.web import cookies, requests_log
from dravo.web.api.auth import PREFIX, check_caller, end_job, needs, register_errors
from dravo.web.api.errors import validation_error
from dravo.web.api.openapi import Api
from dravo.web.api.routes import access as access_routes
from dravo.web.api.routes import assignments as assignments_routes
from dravo.web.api.routes import imports as imports_routes
from dravo.web.api.routes import invitations as invitations_routes
from dravo.web.api.routes import local as local_routes
from dravo.web.api.routes import notifications as notifications_routes
from dravo.web.api.routes import policies as policies_routes
from dravo.web.api.routes import reviews as reviews_routes
from dravo.web.api.routes import session as session_routes
from dravo.web.api.routes import sign_in as sign_in_routes
from dravo.web.api.routes import sources as sources_routes
from dravo.web.api.routes import tasks as tasks_routes
from dravo.web.api.routes import user_ends as user_ends_routes
from dravo.web.api.routes.applications import applications as applications_routes
from dravo.web.api.routes.applications import drift as drift_routes
from dravo.web.api.routes.applications import license_plans as license_plans_routes
from dravo.web.api.routes.applications import manual_tasks as manual_tasks_routes
from dravo.web.api.routes.applications import templates as templates_routes
from dravo.web.api.routes.own import local_sign_in as local_sign_in_routes
from dravo.web.api.routes.own import me as me_routes
from dravo.web.api.routes.own import second_factor as second_factor_routes
from dravo.web.api.schemas.base import ProblemAnswer
from dravo.web.bodies import LARGEST_BODY
from dravo.web.scim import admission as scim_admission
from dravo.web.scim import routes as scim
from dravo.web.sso import routes as sso
from dravo.web.url_rules import QuickRule

BUILT = Path(__file__).parent / "console" / "built"
POLICY = (
    "default-src 'none'; script-src 'self'{script}; style-src 'self'{nonce}; img-src 'self' data:; "
    "font-src 'self'; "
    "connect-src 'self'; form-action 'self'{posts_to}; base-uri 'none'; frame-ancestors 'none'"
)

# Maximum number of callers that wait for a provisioning summary: half of the server's threads.
MOST_SUMMARY_WAITS = 4


@functools.cache
def _json_names(kind: type[Any]) -> tuple[tuple[str, str], ...]:
    """Return the fields of a dataclass with their names in JSON: `from_` becomes "from"."""
    return tuple((field.name, field.name.rstrip("_")) for field in dataclasses.fields(kind))


def _as_object(value: Any) -> dict[str, Any]:
    """Return the fields of a dataclass.

    Raises:
        TypeError: for another value.
    """
    if not dataclasses.is_dataclass(value) or isinstance(value, type):
        raise TypeError(f"{type(value).__name__} cannot be written as JSON")
    return {name: getattr(value, field) for field, name in _json_names(type(value))}


class Orjson(JSONProvider):
    """JSON by orjson, with keys in their order; dataclasses become objects."""

    def dumps(self, obj: Any, **_: Any) -> str:
        """Return JSON text."""
        return orjson.dumps(obj, default=_as_object, option=orjson.OPT_PASSTHROUGH_DATACLASS).decode()

    def loads(self, s: str | bytes, **_: Any) -> Any:
        """Return the value of a JSON text."""
        return orjson.loads(s)


def create_app(ctx: AppContext, public_url: str, heartbeats: Heartbeats | None = None) -> Api:
    """Return the web application of a data folder.

    Args:
        organization: the opened data folder.
        public_url: the public address, without a slash at its end.
        heartbeats: signs of life of the worker; None without a worker.
    """
    app = Api(
        "dravo.web",
        info=Info(title="Dravo", version=__version__, description="The management API of Dravo."),
        security_schemes={
            "token": {"type": "http", "scheme": "bearer"},
            "session": {"type": "apiKey", "in": "cookie", "name": cookies.OPERATOR},
        },
        validation_error_model=ProblemAnswer,
        doc_ui=False,
        validation_error_callback=validation_error,
        static_folder=None,
    )
    app.url_rule_class = QuickRule
    app.json_provider_class = Orjson
    app.json = Orjson(app)
    ctx.public_url = public_url.rstrip("/")
    app.config.update(
        CONTEXT=ctx,
        PUBLIC_URL=public_url.rstrip("/"),
        MAX_CONTENT_LENGTH=LARGEST_BODY,
        SIGN_IN_LIMITER=RateLimiter(10, 300),
        TOKEN_LIMITER=RateLimiter(100, 60),
        SSO_LIMITER=RateLimiter(60, 60),
        SSO_RATE=RateLimiter(600, 60),
        LETTER_LIMITER=RateLimiter(email_codes.LETTERS, email_codes.LETTERS_SECONDS),
        WAITING=JobRegistry(),
        SUMMARY_WAITS=threading.BoundedSemaphore(MOST_SUMMARY_WAITS),
    )
    app.url_map.strict_slashes = False
    for part in (
        session_routes,
        second_factor_routes,
        sources_routes,
        imports_routes,
        policies_routes,
        sign_in_routes,
        local_routes,
        invitations_routes,
        local_sign_in_routes,
        applications_routes,
        assignments_routes,
        access_routes,
        tasks_routes,
        user_ends_routes,
        manual_tasks_routes,
        templates_routes,
        me_routes,
        drift_routes,
        license_plans_routes,
        reviews_routes,
        notifications_routes,
    ):
        app.add_part(part.routes)
    scim_admission.install(app, ctx)
    app.register_blueprint(scim.routes)
    app.register_blueprint(sso.routes)
    register_errors(app)
    _add_document(app)
    _add_health(app, ctx, heartbeats)
    _add_console(app)
    requests_log.add(app)
    app.after_request(_add_headers)
    app.teardown_request(end_job)
    return app


def api_document(app: Api) -> dict[str, Any]:
    """Return the OpenAPI document of the management API, each operation with the permission that it needs."""
    document = copy.deepcopy(app.api_doc)
    permissions = {
        (method, re.sub(r"<(?:\w+:)?(\w+)>", r"{\1}", rule.rule)): getattr(
            app.view_functions[rule.endpoint], "permission", None
        )
        for rule in app.url_map.iter_rules()
        for method in rule.methods or ()
    }
    for path, operations in document["paths"].items():
        for method, operation in operations.items():
            # The library adds its own form of error; 4XX describes ours.
            operation["responses"].pop("422", None)
            operation["x-permission"] = permissions[method.upper(), path]
    return document


def _add_document(app: Api) -> None:
    @functools.cache
    def made() -> tuple[bytes, str]:
        content = orjson.dumps(api_document(app), default=str)
        return content, hashlib.sha256(content).hexdigest()[:32]

    @app.route(f"{PREFIX}/openapi.json")
    def document() -> Response:
        content, tag = made()
        response = Response(content, content_type="application/json", headers={"Cache-Control": "no-cache"})
        response.set_etag(tag)
        response.make_conditional(request)
        return response

    @app.route(f"{PREFIX}/")
    def page() -> str:
        g.nonce = secrets.token_urlsafe(16)
        return render_template(
            "api.html", document=orjson.loads(made()[0]), version=__version__, nonce=g.nonce
        )


def _add_health(app: Flask, ctx: AppContext, heartbeats: Heartbeats | None) -> None:
    @app.route("/healthz")
    def alive() -> dict[str, str]:
        return {"status": "alive", "version": __version__}

    @app.route("/metrics")
    @needs("own.read")
    def metrics() -> Response:
        check_caller()
        text = (
            "\n".join(
                reporting_metrics.as_text(
                    [
                        *reporting_metrics.measures(ctx, clock.now()),
                        *reporting_metrics.of_worker(heartbeats),
                        *reporting_metrics.of_events(),
                    ]
                )
            )
            + "\n"
        )
        kind = "application/openmetrics-text; version=1.0.0; charset=utf-8"
        return Response(text, content_type=kind, headers={"Cache-Control": "no-store"})

    @app.route("/readyz")
    def ready() -> tuple[dict[str, str], int]:
        with ctx.database.reading() as connection:
            has_operator = operator_rows.exist(connection)
        if not has_operator:
            return {"status": "not ready", "reason": "There is no operator yet. Run 'dravo init'."}, 503
        try:
            ctx.database.check_writable()
        except DravoError as wrong:
            return {"status": "not ready", "reason": wrong.message}, 503
        if heartbeats is not None and (late := heartbeats.late(LATE_SECONDS)):
            return {
                "status": "not ready",
                "reason": f"The worker does not respond ({', '.join(late)}). See the service log.",
            }, 503
        return {"status": "ready"}, 200


def _add_console(app: Flask) -> None:
    # Only these names are served: no other path reaches the file system.
    files = {str(file.relative_to(BUILT)) for file in BUILT.rglob("*") if file.is_file()}

    @app.route("/")
    @app.route("/<path:path>")
    def console(path: str = "") -> Response:
        first = path.partition("/")[0]
        if first in ("api", "scim", "sso"):
            raise NotFound(f"There is no page at '{request.path}'.")
        if path in files:
            response = send_from_directory(BUILT, path)
            if first == "assets":
                response.headers["Cache-Control"] = "public, max-age=31536000, immutable"
            return response
        if "index.html" not in files:
            return Response(
                "The console is not built yet. Run 'make setup'.\n", 503, content_type="text/plain"
            )
        # The theme's colors are an inline style, which the policy allows through the nonce of this page.
        g.nonce = secrets.token_urlsafe(16)
        text = (BUILT / "index.html").read_text().replace("__NONCE__", g.nonce)
        return Response(text, content_type="text/html; charset=utf-8", headers={"Cache-Control": "no-cache"})


def _add_headers(response: Response) -> Response:
    response.headers.setdefault("X-Content-Type-Options", "nosniff")
    if response.mimetype == "text/html":
        nonce = g.get("nonce")
        # Only the page that forwards a browser to a provider posts to another site, to this one URL, by a
        # script.
        posts_to = g.get("posts_to")
        response.headers["Content-Security-Policy"] = POLICY.format(
            nonce=f" 'nonce-{nonce}'" if nonce else "",
            script=f" 'nonce-{nonce}'" if posts_to else "",
            posts_to=f" {posts_to}" if posts_to else "",
        )
        response.headers["Referrer-Policy"] = "no-referrer"
        response.headers["X-Frame-Options"] = "DENY"
        if current_app.config["PUBLIC_URL"].startswith("https:"):
            response.headers["Strict-Transport-Security"] = "max-age=31536000"
    elif request.path.startswith(("/api/", "/scim/")):
        response.headers.setdefault("Cache-Control", "no-store")
    return response
