"""The guarded HTTP client for all outgoing requests, with limits on addresses, time and size.

A name is resolved once, checked, and the request goes to that address, so that the name cannot be changed
between the check and the call. Link-local and unspecified addresses are never called; a token is sent over
plain HTTP only within this machine; redirects are not followed.
"""

from __future__ import annotations

import base64
import ssl
import threading
import time
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any
from urllib.parse import quote_plus, urlsplit, urlunsplit

import httpx
import orjson

from dravo.core.errors import InvalidInput
from dravo.protocols.addresses import AddressNotAllowed, Unreachable, is_host, resolve
from dravo.protocols.trust import trusted

LARGEST_ANSWER = 8 * 1024 * 1024
CONNECT_SECONDS = 5.0
READ_SECONDS = 20.0
WHOLE_SECONDS = 60.0
TIMEOUT = httpx.Timeout(READ_SECONDS, connect=CONNECT_SECONDS).as_dict()
SCIM_JSON = "application/scim+json"
ALWAYS = {
    "Accept": f"{SCIM_JSON}, application/json",
    "Accept-Encoding": "gzip, deflate",
    "User-Agent": "Dravo",
}


@dataclass(frozen=True)
class Connection:
    """Where an application's SCIM service is, and the token for it; with a `user`, the token is that user's
    password. `ca` has certificates of its own authority.
    """

    base_url: str
    token: str = field(repr=False)
    user: str = ""
    ca: str = field(default="", repr=False)

    @property
    def authorization(self) -> str:
        """The Authorization header (RFC 6750, section 2.1; RFC 7617)."""
        if self.user:
            return "Basic " + base64.b64encode(f"{self.user}:{self.token}".encode()).decode()
        return f"Bearer {self.token}"


@dataclass(frozen=True)
class Request:
    """One request, its path relative to the base address."""

    method: str
    path: str
    params: Mapping[str, str] = field(default_factory=dict)
    body: Mapping[str, Any] | None = None


@dataclass(frozen=True)
class Response:
    """A response: status, the JSON object in it (None without one), the beginning of its text, and other
    values.
    """

    status: int
    body: Mapping[str, Any] | None
    excerpt: str
    content_type: str
    retry_after: float | None = None
    location: str | None = None
    seconds: float = 0.0

    @property
    def ok(self) -> bool:
        """Whether it succeeded, by its status."""
        return 200 <= self.status < 300


@dataclass(frozen=True)
class Fetched:
    """A response with its whole content."""

    status: int
    content: bytes
    content_type: str

    @property
    def document(self) -> dict[str, Any] | None:
        """The JSON object in it; None if it is none."""
        try:
            found = orjson.loads(self.content)
        except ValueError:
            return None
        return found if isinstance(found, dict) else None


def repair_address(text: str) -> str:
    """Return a base URL without surrounding blanks and final slashes.

    Raises:
        InvalidInput: for a URL that is not HTTP, or has parts that a base URL cannot have.
    """
    address = text.strip().strip("\"'<>").strip()
    if "://" not in address:
        raise InvalidInput(
            f"'{address}' does not start with https://.",
            f"Enter the complete URL, such as https://{address or 'HOST/scim/v2'}.",
            "base_url",
        )
    try:
        parts = urlsplit(address)
        port = parts.port
    except ValueError:
        raise InvalidInput(
            f"'{address}' is not a URL.", "Enter a URL such as https://HOST/scim/v2.", "base_url"
        ) from None
    if parts.scheme.lower() not in ("http", "https") or not parts.hostname or not is_host(parts.hostname):
        raise InvalidInput(
            f"'{address}' is not an HTTP URL.", "Enter a URL such as https://HOST/scim/v2.", "base_url"
        )
    if parts.username or parts.password:
        raise InvalidInput(
            "The URL contains a user name or a password.",
            "Remove them. Enter the token in its own field.",
            "base_url",
        )
    if parts.query or parts.fragment:
        raise InvalidInput(
            "The URL contains a query or a fragment.",
            "Enter only the base URL, up to the version: https://HOST/scim/v2.",
            "base_url",
        )
    path = parts.path.rstrip("/")
    for ending in ("/Users", "/Groups", "/ServiceProviderConfig"):
        path = path.removesuffix(ending)
    host = parts.hostname if ":" not in parts.hostname else f"[{parts.hostname}]"
    return urlunsplit((parts.scheme.lower(), f"{host}:{port}" if port else host, path, "", ""))


def check_url(text: str, field: str) -> str:
    """Return a URL that is called as it is, such as that of an authorization server.

    Raises:
        InvalidInput: for a URL that is not HTTP, or has a name or password.
    """
    address = text.strip()
    parts = urlsplit(address)
    if (
        parts.scheme not in ("http", "https")
        or not parts.hostname
        or not is_host(parts.hostname)
        or parts.username
        or parts.password
        or parts.fragment
    ):
        raise InvalidInput(
            f"'{address}' is not a valid URL.",
            "Enter the complete URL, beginning with https://.",
            field,
        )
    return address


class GuardedTransport(httpx.BaseTransport):
    """Resolves, checks, and sends to the address that was checked."""

    def __init__(self, ca: str = "") -> None:
        limits = httpx.Limits(max_connections=64, max_keepalive_connections=64, keepalive_expiry=15)
        self._inner = httpx.HTTPTransport(verify=trusted(ca), limits=limits, retries=0, trust_env=False)

    def handle_request(self, request: httpx.Request) -> httpx.Response:
        """Send one request to the checked address of its host."""
        host = request.url.host
        address = resolve(host, request.url.port or (443 if request.url.scheme == "https" else 80))
        if request.url.scheme == "http" and not address.is_loopback:
            raise AddressNotAllowed(
                f"'{host}' is another machine. Plain HTTP would send the token in clear text.",
                "Use its https:// URL.",
            )
        # The Host header was made from the name already; the name is also what the server's certificate must
        # be for.
        request.url = request.url.copy_with(host=str(address))
        request.extensions = {**request.extensions, "sni_hostname": host}
        return self._inner.handle_request(request)

    def close(self) -> None:
        """Close the open connections."""
        self._inner.close()


class Client:
    """Sends requests to applications. One client serves a process; each thread has its own connections.

    Redirects are not followed, and cookies are not kept: what one response sets is never sent with another
    request.
    """

    def __init__(self) -> None:
        self._own = threading.local()
        self._opened: list[GuardedTransport] = []

    def _transport(self, ca: str) -> GuardedTransport:
        """This thread's own for a certificate authority: threads that share one spend more time on waiting
        for each other than on talking.
        """
        own: dict[str, GuardedTransport] | None = getattr(self._own, "transports", None)
        if own is None:
            own = self._own.transports = {}
        kept = own.get(ca)
        if kept is None:
            kept = own[ca] = GuardedTransport(ca)
            self._opened.append(kept)
        return kept

    def send(self, connection: Connection, request: Request) -> Response:
        """Send a request and return the response, whatever its status.

        Raises:
            Unreachable: without a response.
            NotAllowed: for an address that Dravo never calls.
        """
        started = time.monotonic()
        headers = {**({"Authorization": connection.authorization} if connection.token else {}), **ALWAYS}
        content = None
        if request.body is not None:
            headers["Content-Type"] = SCIM_JSON
            content = orjson.dumps(request.body)
        url = connection.base_url + request.path
        return self._send(
            started,
            request.method,
            url,
            params=dict(request.params) or None,
            headers=headers,
            content=content,
            ca=connection.ca,
        )

    def ask_for_token(
        self, url: str, client_id: str, secret: str, scope: str | None, ca: str = ""
    ) -> Response:
        """Get a token from an authorization server by client credentials (RFC 6749, section 4.4); raises as
        `send`.
        """
        form = {"grant_type": "client_credentials", **({"scope": scope} if scope else {})}
        # Client ID and secret are form-encoded in the header (RFC 6749, section 2.3.1).
        signed = Connection("", quote_plus(secret), quote_plus(client_id)).authorization
        return self._send(
            time.monotonic(),
            "POST",
            url,
            data=form,
            headers={"Authorization": signed, "Accept": "application/json"},
            ca=ca,
        )

    def fetch(
        self,
        url: str,
        *,
        accept: str,
        form: Mapping[str, str] | None = None,
        headers: Mapping[str, str] | None = None,
        ca: str = "",
    ) -> Fetched:
        """Return the content at an address, or the response to a posted form; raises as `send`."""
        sent = {
            "Accept": accept,
            "User-Agent": ALWAYS["User-Agent"],
            "Accept-Encoding": ALWAYS["Accept-Encoding"],
            **(headers or {}),
        }
        answer, content = self._exchange(
            time.monotonic(), "GET" if form is None else "POST", url, data=form, headers=sent, ca=ca
        )
        return Fetched(answer.status_code, content, answer.headers.get("content-type", ""))

    def post(self, url: str, content: bytes, headers: Mapping[str, str]) -> Response:
        """Post content with its headers; raises as `send`."""
        sent = {"User-Agent": ALWAYS["User-Agent"], "Accept-Encoding": ALWAYS["Accept-Encoding"], **headers}
        return self._send(time.monotonic(), "POST", url, content=content, headers=sent)

    def _send(self, started: float, method: str, url: str, **parts: Any) -> Response:
        answer, content = self._exchange(started, method, url, **parts)
        return _response(answer, content, time.monotonic() - started)

    def _exchange(
        self, started: float, method: str, url: str, *, ca: str = "", **parts: Any
    ) -> tuple[httpx.Response, bytes]:
        try:
            request = httpx.Request(method, url, extensions={"timeout": TIMEOUT}, **parts)
            answer = self._transport(ca).handle_request(request)
            # What an answer says of its own encoding is read by way of its request.
            answer.request = request
            try:
                return answer, _read(answer, started)
            finally:
                answer.close()
        except (httpx.ConnectError, httpx.ConnectTimeout, httpx.PoolTimeout) as wrong:
            raise Unreachable(f"no connection ({_why(wrong)})", sent=False) from wrong
        except httpx.TimeoutException as wrong:
            raise Unreachable(f"no response within {READ_SECONDS:.0f} seconds", sent=True) from wrong
        except httpx.HTTPError as wrong:
            raise Unreachable(
                f"the connection was closed before the response ({_why(wrong)})", sent=True
            ) from wrong
        except (UnicodeError, httpx.InvalidURL, ValueError) as wrong:
            raise Unreachable(f"the request could not be written ({_why(wrong)})", sent=False) from wrong

    def close(self) -> None:
        """Close the open connections."""
        for each in self._opened:
            each.close()


def _why(wrong: Exception) -> str:
    """Return in words why a connection failed; for TLS without names of library parts."""
    cause: BaseException | None = wrong
    while cause is not None:
        if isinstance(cause, ssl.SSLCertVerificationError):
            return f"its certificate is not trusted: {cause.verify_message}"
        if isinstance(cause, ssl.SSLError):
            return why_no_tls(cause)
        cause = cause.__cause__ or cause.__context__
    return str(wrong).strip() or type(wrong).__name__


def why_no_tls(wrong: ssl.SSLError) -> str:
    """Return in words why TLS could not be agreed."""
    if wrong.reason in (
        "WRONG_VERSION_NUMBER",
        "UNEXPECTED_MESSAGE",
        "HTTP_REQUEST",
        "RECORD_LAYER_FAILURE",
        "PACKET_LENGTH_TOO_LONG",
    ):
        return "the port does not use TLS; check http:// or https://, and the port"
    if wrong.reason in ("UNSUPPORTED_PROTOCOL", "TLSV1_ALERT_PROTOCOL_VERSION", "NO_PROTOCOLS_AVAILABLE"):
        return "the server supports only an outdated TLS version"
    return f"TLS handshake failed: {(wrong.reason or 'no reason given').lower().replace('_', ' ')}"


def _read(answer: httpx.Response, started: float) -> bytes:
    parts, size = [], 0
    for part in answer.iter_bytes():
        size += len(part)
        if size > LARGEST_ANSWER:
            raise Unreachable(f"the response is larger than {LARGEST_ANSWER // 1024 // 1024} MiB", sent=True)
        if time.monotonic() - started > WHOLE_SECONDS:
            raise Unreachable(f"the response took longer than {WHOLE_SECONDS:.0f} seconds", sent=True)
        parts.append(part)
    return b"".join(parts)


def _response(answer: httpx.Response, content: bytes, seconds: float) -> Response:
    try:
        body = orjson.loads(content) if content else None
    except ValueError:
        body = None
    return Response(
        answer.status_code,
        body if isinstance(body, dict) else None,
        content[:400].decode("utf-8", "replace"),
        answer.headers.get("content-type", ""),
        _retry_after(answer.headers.get("retry-after")),
        answer.headers.get("location"),
        seconds,
    )


def _retry_after(text: str | None) -> float | None:
    """Return the seconds of a Retry-After header; a date is passed over, the growing pauses serve for it."""
    return min(float(text), 3600.0) if text and text.strip().isdigit() else None
