"""Errors of the client: one class for each kind of failed call, with the service's message."""

from __future__ import annotations


class ApiError(Exception):
    """A call failed.

    Attributes:
        message: what happened.
        hint: what to do; may be empty.
        code: the code for programs, such as "not_found".
        status: the HTTP status; None without a response.
        field: the name of the wrong input, if there is one.
    """

    def __init__(
        self,
        message: str,
        hint: str = "",
        code: str = "error",
        status: int | None = None,
        field: str | None = None,
    ) -> None:
        super().__init__(f"{message} {hint}".strip())
        self.message, self.hint, self.code, self.status, self.field = message, hint, code, status, field


class ServiceUnreachable(ApiError):
    """The service did not respond."""


class AuthenticationRequired(ApiError):
    """The token is missing, unknown, revoked or expired (401)."""


class NotAllowed(ApiError):
    """The caller may not do this (403)."""


class NotFound(ApiError):
    """A named object does not exist (404)."""


class Conflict(ApiError):
    """It exists already, is still in use, or the world moved meanwhile (409)."""


class InvalidRequest(ApiError):
    """A value is invalid (400, 413, 422)."""


class TryAgainLater(ApiError):
    """The service cannot do it now (429, 5xx)."""


def error_for(status: int) -> type[ApiError]:
    """Return the class for an HTTP status."""
    known = {
        401: AuthenticationRequired,
        403: NotAllowed,
        404: NotFound,
        409: Conflict,
        400: InvalidRequest,
        413: InvalidRequest,
        422: InvalidRequest,
    }
    return known.get(status, TryAgainLater if status == 429 or status >= 500 else ApiError)
