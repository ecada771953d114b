"""The base of the client's resources."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Any, Protocol
from urllib.parse import quote

from dravo.client.pages import Pages


class Service(Protocol):
    """A service that can be called."""

    def call(
        self,
        method: str,
        path: str,
        *,
        query: dict[str, Any] | None = None,
        body: dict[str, Any] | None = None,
    ) -> Any:
        """Call the service and return its response."""

    def stream(self, path: str, query: dict[str, Any]) -> Iterator[bytes]:
        """Yield a response, piece by piece."""

    def pages(self, path: str, query: dict[str, Any] | None = None) -> Pages[Any]:
        """Return a paged list."""


class Noun:
    """One noun of the work, with its calls."""

    def __init__(self, service: Service) -> None:
        self._dravo = service
        self._call: Callable[..., Any] = service.call


def part(text: str) -> str:
    """Return a text for a path."""
    return quote(text, safe="@")


def plain(value: Any) -> Any:
    """Return a value for a query."""
    return {True: "true", False: "false"}[value] if isinstance(value, bool) else value
