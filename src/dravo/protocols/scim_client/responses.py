"""The meaning of an application's response: success, retry later, refusal, or an error of its token or
address; with a hint.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from dravo.protocols.http_client import Response


class ProvisioningError(Exception):
    """Why an account could not be brought to its desired state.

    Args:
        message: what happened, in one sentence.
        hint: what to do.
        kind: the kind of error, where a class has several: all errors of one kind have one hint.
    """

    # The application's status, if it gave one.
    status: int | None = None

    def __init__(self, message: str, hint: str = "", kind: str | None = None) -> None:
        super().__init__(message)
        self.message = message
        self.hint = hint
        self.kind = kind


class RetryableError(ProvisioningError):
    """A temporary error.

    Attributes:
        after: for how many seconds the application asked for a pause, or None.
        counts: whether the error counts for the health of the application.
    """

    def __init__(
        self, message: str, hint: str = "", after: float | None = None, *, counts: bool = True
    ) -> None:
        super().__init__(message, hint)
        self.after, self.counts = after, counts


class ConnectionPausedError(ProvisioningError):
    """An error that concerns every account of the application: its token or its address."""


class Refused(ProvisioningError):
    """The application will not have it, and asking again would not help."""


class HeldBySettings(ProvisioningError):
    """The application's settings here do not permit it."""


class Unknown(ProvisioningError):
    """Dravo cannot learn whether an account was created; an operator has to check."""


def classify(response: Response, doing: str, *, empty: bool = False) -> Mapping[str, Any]:
    """Return the body of a successful response; `empty` allows a response without one.

    Raises:
        RetryableError, ConnectionPausedError, Refused: by the answer.
    """
    status = response.status
    if response.ok:
        if response.body is not None:
            return response.body
        if empty and not looks_like_a_page(response):
            return {}
        raise ConnectionPausedError(*not_scim(response))
    if status in (401, 403):
        turned_away = ConnectionPausedError(
            f"The application rejected the token while {doing} ({status}): {said(response)}",
            "Enter a valid token that can change users.",
        )
        turned_away.status = status
        raise turned_away
    if 300 <= status < 400:
        raise ConnectionPausedError(
            f"The URL of the application redirects ({status} to {response.location}).",
            "Enter the URL that it redirects to.",
        )
    if status == 404 or (response.body is None and looks_like_a_page(response) and status < 500):
        raise ConnectionPausedError(*not_scim(response))
    if status == 429 or status >= 500 or status in (408, 425):
        raise RetryableError(
            f"The application is temporarily unavailable while {doing} ({status}): {said(response)}",
            "",
            response.retry_after,
        )
    refused = Refused(
        f"The application refused {doing} ({status}): {said(response)}",
        "Fix the cause that the application names, then retry.",
    )
    refused.status = status
    raise refused


def looks_like_a_page(response: Response) -> bool:
    """Whether an answer is a web page instead of a message for programs."""
    return "html" in response.content_type.lower() or response.excerpt.lstrip()[:1] == "<"


def not_scim(response: Response) -> tuple[str, str]:
    """Return message and hint for a response that no SCIM service gives."""
    if looks_like_a_page(response):
        what = f"a web page (HTML, {response.status})"
    elif response.status == 404:
        what = "not found (404)"
    else:
        what = f"something that is not JSON ({response.status})"
    return (
        f"The URL of the application returned {what} instead of SCIM.",
        "Check the SCIM base URL. It often ends in /scim/v2 or /scim.",
    )


def said(response: Response) -> str:
    """Return the application's message in one sentence."""
    body = response.body or {}
    for name in ("detail", "message", "error_description", "error"):
        if isinstance(body.get(name), str) and body[name].strip():
            return str(body[name]).strip()[:300]
    return response.excerpt.strip()[:200] or "no reason given."
