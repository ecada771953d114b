"""One line in the log for each request, and an ID that all lines of the request carry."""

from __future__ import annotations

import re
import time

import structlog
from flask import Flask, Response, g, request

from dravo.store.ids import new_id
from dravo.web.callers import place

HEADER = "X-Request-ID"
# Accepted request IDs of a proxy: nothing that could forge a log line.
_GIVEN = re.compile(r"[A-Za-z0-9._-]{8,64}")
# Frequent health checks, and files of the console.
_QUIET = ("/healthz", "/readyz", "/metrics", "/assets/")

log = structlog.get_logger("requests")


def add(app: Flask) -> None:
    """Have each request of an application logged under an ID, which its response carries too."""

    @app.before_request
    def begin() -> None:
        given = request.headers.get(HEADER, "")
        g.began, g.request_id = time.monotonic(), given if _GIVEN.fullmatch(given) else new_id()
        structlog.contextvars.bind_contextvars(request_id=g.request_id)

    @app.after_request
    def end(response: Response) -> Response:
        request_id = g.get("request_id")
        if request_id is not None:
            response.headers[HEADER] = request_id
        if not request.path.startswith(_QUIET):
            # Without the query: filters and searches hold names and emails.
            log.info(
                "request",
                method=request.method,
                path=request.path[:200],
                status=response.status_code,
                milliseconds=round((time.monotonic() - g.get("began", time.monotonic())) * 1000),
                network=place(),
            )
        return response

    @app.teardown_request
    def forget(_: BaseException | None) -> None:
        structlog.contextvars.unbind_contextvars("request_id")
