"""What every noun of the client is made of."""

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
        """Make one call and return what was answered."""

    def stream(self, path: str, query: dict[str, Any]) -> Iterator[bytes]:
        """Yield what is answered, piece by piece."""

    def pages(self, path: str, query: dict[str, Any] | None = None) -> Pages[Any]:
        """Return a list that comes in pages."""


class Noun:
    """One noun of the work, with its calls."""

    def __init__(self, service: Service) -> None:
        self._dravo = service
        self._call: Callable[..., Any] = service.call


def part(text: str) -> str:
    """Return a text as it may stand in a path."""
    return quote(text, safe="@")


def plain(value: Any) -> Any:
    """Return a value as it stands in a query."""
    return {True: "true", False: "false"}[value] if isinstance(value, bool) else value
