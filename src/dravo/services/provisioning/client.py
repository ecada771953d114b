"""Calls applications: drives conversations over the guarded HTTP client, within each application's rate, and
authenticates.

One client serves a process and is used by many threads.
"""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Generator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any, TypeVar
from urllib.parse import unquote

from dravo.protocols.addresses import Unreachable
from dravo.protocols.http_client import Client, Connection, Request, Response
from dravo.protocols.scim_client.capabilities import Capabilities, discover, read_capabilities, without_bulk
from dravo.protocols.scim_client.listing import MOST, ResourceList, TooMany, everything
from dravo.protocols.scim_client.responses import ConnectionPausedError, RetryableError
from dravo.services.context import AppContext
from dravo.services.provisioning.account_lists import Lists
from dravo.services.provisioning.health import note_answer
from dravo.services.security import masking
from dravo.store import clock
from dravo.store.provisioning import applications as application_rows
from dravo.store.provisioning import tasks as task_rows

LONGEST_WAIT = 15.0
# From this number of accounts to create, the list is read once instead of one search for each account; and
# how often, in seconds, the number is counted.
MANY, COUNT_SECONDS = 20, 5.0
T = TypeVar("T")


@dataclass(frozen=True)
class ConnectedApplication:
    """An application as talking needs it."""

    id: str
    base_url: str
    secret: str = field(repr=False)
    auth: Mapping[str, Any] | None = None
    capabilities: Mapping[str, Any] | None = None
    rate_limit: int | None = None


@dataclass
class ExchangeLog:
    """The exchanges of one attempt with an application, without bodies and secrets."""

    there: ConnectedApplication
    exchanges: list[dict[str, Any]] = field(default_factory=list)

    @property
    def in_doubt(self) -> bool:
        """Whether the last request may have changed something although no response arrived."""
        if not self.exchanges:
            return False
        last = self.exchanges[-1]
        return last["method"] != "GET" and (last["status"] is None or last["status"] >= 500)


@dataclass(frozen=True)
class Exchange:
    """A request of an attempt with its response; `bulk_operations` is the number of bulk changes."""

    method: str
    path: str
    query: dict[str, str] | None
    status: int | None
    milliseconds: int
    excerpt: str | None
    bulk_operations: int | None = None


def shown_exchanges(exchanges: Sequence[Mapping[str, Any]] | None) -> list[Exchange]:
    """Return stored exchanges as the present caller may read them: filters and refusals quote attributes."""
    shown = [Exchange(**each) for each in exchanges or ()]
    if not masking.hidden():
        return shown
    return [
        replace(
            each,
            path=each.path.partition("?")[0],
            query=None,
            excerpt=masking.HIDDEN if each.excerpt else None,
        )
        for each in shown
    ]


class Pace:
    """When the next request may go to an application."""

    def __init__(self) -> None:
        self._next: dict[str, float] = {}
        self._lock = threading.Lock()

    def take(self, application_id: str, rate_limit: int | None) -> float:
        """Let a request go now, or return the seconds to wait before asking again.

        The next request is timed from when this one is really sent. A thread that slept too long is late, but
        never sends together with another one; it also sees that the application asked for a pause meanwhile.
        """
        with self._lock:
            present = time.monotonic()
            wait = self._next.get(application_id, 0.0) - present
            if wait > 0:
                return wait
            if rate_limit:
                self._next[application_id] = present + 1 / rate_limit
        return 0.0

    def hold(self, application_id: str, seconds: float) -> None:
        """Let no request go for some seconds."""
        until = time.monotonic() + seconds
        with self._lock:
            self._next[application_id] = max(self._next.get(application_id, 0.0), until)


class ApplicationClient:
    """Talks with all applications of one organization."""

    def __init__(self, ctx: AppContext) -> None:
        self.ctx = ctx
        self.client = Client()
        self.pace = Pace()
        self.lists = Lists()
        self._tokens: dict[str, tuple[float, str, str]] = {}
        self._learnt: dict[tuple[str, str], Capabilities] = {}
        self._waiting: dict[str, tuple[float, int]] = {}
        self._clear: dict[str, tuple[str, str]] = {}
        self._lock = threading.Lock()

    def close(self) -> None:
        """Close the open connections."""
        self.client.close()

    def converse(
        self, talk: ExchangeLog, conversation: Generator[Any, Any, T], answer: Callable[[Any], object]
    ) -> T:
        """Drive a conversation to its end: send its requests, and answer its other questions.

        Raises:
            RetryableError: without a response; and what the conversation raises.
        """
        sent: Any = None
        while True:
            try:
                question = conversation.send(sent)
            except StopIteration as end:
                result: T = end.value
                return result
            sent = self.exchange(talk, question) if isinstance(question, Request) else answer(question)

    def exchange(self, talk: ExchangeLog, request: Request) -> Response:
        """Send one request and note the exchange.

        Raises:
            RetryableError: without a response, or if the application asked for a pause that is too long to
                wait.
        """
        there = talk.there
        while (wait := self.pace.take(there.id, there.rate_limit)) > 0:
            if wait > LONGEST_WAIT:
                raise RetryableError(
                    "The application asked Dravo to wait.", "Dravo retries automatically.", wait
                )
            time.sleep(wait)
        response = self._send(talk, request)
        if response.status == 401 and (there.auth or {}).get("kind") == "client_credentials":
            # A token can be revoked before its expiry: request one more, then report the error.
            with self._lock:
                self._tokens.pop(there.id, None)
            response = self._send(talk, request)
        if response.status == 429:
            self.pace.hold(there.id, min(response.retry_after or 1.0, 60.0))
        return response

    def _send(self, talk: ExchangeLog, request: Request) -> Response:
        line: dict[str, Any] = {
            "method": request.method,
            "path": request.path,
            "query": dict(request.params) or None,
        }
        connection = self.connection(talk.there)
        began = time.monotonic()
        try:
            response = self.client.send(connection, request)
        except Unreachable as wrong:
            talk.exchanges.append(
                {
                    **line,
                    "status": None,
                    "milliseconds": round((time.monotonic() - began) * 1000),
                    "excerpt": str(wrong),
                }
            )
            self.note_gone(talk.there.id, request, None)
            doubt = (
                " The outcome is unknown; Dravo checks before the next attempt."
                if wrong.sent and request.method != "GET"
                else ""
            )
            raise RetryableError(
                f"The application does not respond: {wrong}.{doubt}", "Dravo retries automatically."
            ) from None
        self.note_gone(talk.there.id, request, response.status)
        said = None if response.ok else response.excerpt[:400]
        talk.exchanges.append(
            {
                **line,
                "status": response.status,
                "milliseconds": round(response.seconds * 1000),
                "excerpt": said,
            }
        )
        return response

    def note_gone(self, application_id: str, request: Request, status: int | None) -> None:
        """Remove from the lists what a response shows to be deleted or missing.

        Args:
            status: the status of the response; None without a response.
        """
        _, path, *rest = request.path.split("/")
        if rest and (status == 404 or (request.method == "DELETE" and status is not None and status < 300)):
            self.lists.forget(application_id, f"/{path}", unquote(rest[0]))
        elif request.method == "DELETE" and (status is None or status >= 500):
            self.lists.forget(application_id, f"/{path}")

    def connection(self, there: ConnectedApplication) -> Connection:
        """Return the authenticated connection to an application.

        Raises:
            ConnectionPausedError: if the authorization server issues no token.
            RetryableError: if it does not answer.
        """
        secret, auth = self._secret(there), there.auth or {}
        ca = auth.get("ca", "")
        if auth.get("kind") == "basic":
            return Connection(there.base_url, secret, auth["user"], ca)
        if auth.get("kind") == "client_credentials":
            return Connection(there.base_url, self._access_token(there, auth, secret), ca=ca)
        return Connection(there.base_url, secret, ca=ca)

    def _secret(self, there: ConnectedApplication) -> str:
        """Return an application's secret in plain text, from a cache of the last one."""
        with self._lock:
            kept = self._clear.get(there.id)
        if kept is None or kept[0] != there.secret:
            kept = (there.secret, self.ctx.keys.decrypt(there.secret))
            with self._lock:
                self._clear[there.id] = kept
        return kept[1]

    def _access_token(self, there: ConnectedApplication, auth: Mapping[str, Any], secret: str) -> str:
        with self._lock:
            until, of, token = self._tokens.get(there.id, (0.0, "", ""))
        if until > time.monotonic() and of == there.secret:
            return token
        try:
            answer = self.client.ask_for_token(
                auth["token_url"], auth["client_id"], secret, auth.get("scope"), auth.get("ca", "")
            )
        except Unreachable as wrong:
            raise RetryableError(
                f"The authorization server does not respond: {wrong}.", "Dravo retries automatically."
            ) from None
        body = answer.body or {}
        if answer.status >= 500 or answer.status == 429:
            raise RetryableError(
                f"The authorization server is temporarily unavailable ({answer.status}).",
                "",
                answer.retry_after,
            )
        if not answer.ok or not isinstance(body.get("access_token"), str):
            said = (
                body.get("error_description")
                or body.get("error")
                or answer.excerpt[:200]
                or "no reason given"
            )
            raise ConnectionPausedError(
                f"The authorization server issued no token ({answer.status}): {said}",
                "Check the token URL, the client ID and the client secret.",
            )
        lasts = body.get("expires_in")
        seconds = float(lasts) if isinstance(lasts, int | float) and lasts > 0 else 300.0
        with self._lock:
            self._tokens[there.id] = (
                time.monotonic() + max(seconds - 30, 1.0),
                there.secret,
                body["access_token"],
            )
        return str(body["access_token"])

    def capabilities(self, talk: ExchangeLog) -> Capabilities:
        """Return the capabilities of an application, read once and cached."""
        there = talk.there
        if there.capabilities and "attributes" in there.capabilities:
            return read_capabilities(there.capabilities)
        key = (there.id, there.base_url)
        with self._lock:
            if key in self._learnt:
                return self._learnt[key]
        found = self.converse(talk, discover(), _nothing_else)
        with self._lock:
            self._learnt[key] = found
        with self.ctx.database.writing() as connection:
            application_rows.update_at_address(
                connection, there.id, there.base_url, capabilities=found.document()
            )
        return found

    def without_bulk(self, talk: ExchangeLog, capabilities: Capabilities) -> Capabilities:
        """Note that an application refused a bulk request although it offers Bulk; return its
        capabilities.
        """
        there, found = talk.there, without_bulk(capabilities)
        with self._lock:
            self._learnt[there.id, there.base_url] = found
        with self.ctx.database.writing() as connection:
            application_rows.update_at_address(
                connection, there.id, there.base_url, capabilities=found.document()
            )
        return found

    def worth_a_list(self, application_id: str) -> int:
        """Return how many accounts wait to be created in an application, if one list is quicker than a search
        for each.
        """
        present = time.monotonic()
        with self._lock:
            looked, number = self._waiting.get(application_id, (-COUNT_SECONDS, 0))
            if present - looked < COUNT_SECONDS:
                return number if number >= MANY else 0
            self._waiting[application_id] = (present, number)
        with self.ctx.database.reading() as connection:
            number = task_rows.number_to_create(connection, application_id)
        with self._lock:
            self._waiting[application_id] = (present, number)
        return number if number >= MANY else 0

    def listed(
        self,
        talk: ExchangeLog,
        path: str,
        capabilities: Capabilities,
        since: float,
        *,
        most: int | None = None,
    ) -> ResourceList | None:
        """Return an application's accounts or groups from a list read after an instant; None if there are
        more than `most`.
        """

        def read() -> list[Mapping[str, Any]] | None:
            try:
                found = self.converse(
                    talk, everything(path, capabilities, most=MOST if most is None else most), _nothing_else
                )
            except TooMany:
                return None
            # A connection that is lost directly after a success is an error of one task, not of the
            # application.
            with self.ctx.database.writing() as connection:
                note_answer(connection, talk.there.id, 0, clock.now())
            return found

        return self.lists.get(talk.there.id, path, since, read)


def _nothing_else(question: Any) -> Any:
    raise AssertionError(f"unexpected question {question!r}")
