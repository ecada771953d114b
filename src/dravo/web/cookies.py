"""Cookies of browsers.

Under HTTPS their names begin with `__Host-`: no other host can set them (RFC 6265bis, section 4.1.3).
"""

from __future__ import annotations

from typing import Literal

from flask import Response, current_app, request

# Cookies of an operator's session, of a browser during a sign-in, and of a user's session.
OPERATOR, BROWSER, USER = "dravo_session", "dravo_browser", "dravo_user_session"


def is_secure() -> bool:
    """Return whether browsers reach the service by HTTPS."""
    return str(current_app.config["PUBLIC_URL"]).startswith("https:")


def _named(name: str) -> str:
    return f"__Host-{name}" if is_secure() else name


def read(name: str) -> str | None:
    """Return the secret that the browser sends in a cookie, None if it sends none."""
    return request.cookies.get(_named(name))


def keep(
    response: Response,
    name: str,
    secret: str,
    seconds: int,
    same_site: Literal["Strict", "Lax", "None"] = "Lax",
) -> None:
    """Set a cookie for some seconds."""
    response.set_cookie(
        _named(name), secret, httponly=True, samesite=same_site, secure=is_secure(), path="/", max_age=seconds
    )


def forget(response: Response, name: str) -> None:
    """Delete a cookie."""
    response.delete_cookie(_named(name), path="/", secure=is_secure(), httponly=True)
