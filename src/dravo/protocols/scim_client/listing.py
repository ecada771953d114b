"""Reads the whole list of an application's accounts or groups, page by page, by cursor where the application
offers it.
"""

from __future__ import annotations

from collections.abc import Generator, Iterator, Mapping, Sequence
from typing import Any

from dravo.core.provisioning.matching import compared, values_of
from dravo.protocols.http_client import Request, Response
from dravo.protocols.scim_client.capabilities import Capabilities
from dravo.protocols.scim_client.responses import Refused, RetryableError, classify

MOST = 500_000
PAGE_TRIES = 4


class ResourceList:
    """Accounts or groups of an application, found by an attribute in an index: many attempts search one list.

    IDs in `gone` that were noted after `began` are left out.
    """

    def __init__(
        self,
        resources: Sequence[Mapping[str, Any]],
        gone: Mapping[str, float] | None = None,
        began: float = 0.0,
        indexes: dict[str, dict[str, list[Mapping[str, Any]]]] | None = None,
    ) -> None:
        self.resources = resources
        self._gone, self._began = gone or {}, began
        self._indexes = {} if indexes is None else indexes

    def without(self, gone: Mapping[str, float], began: float) -> ResourceList:
        """Return the list without IDs that were noted after an instant; it shares the indexes."""
        return ResourceList(self.resources, gone, began, self._indexes) if gone else self

    def having(self, attribute: str, value: str) -> list[Mapping[str, Any]]:
        """Return the resources with a value in an attribute, as `values_of` compares them."""
        index = self._indexes.get(attribute)
        if index is None:
            index = {}
            for each in self.resources:
                for held in values_of(each, attribute):
                    index.setdefault(held, []).append(each)
            self._indexes[attribute] = index
        return [each for each in index.get(compared(attribute, value), ()) if self._is_there(each)]

    def _is_there(self, resource: Mapping[str, Any]) -> bool:
        return not self._gone or self._gone.get(str(resource.get("id")), float("-inf")) < self._began

    def __iter__(self) -> Iterator[Mapping[str, Any]]:
        return (each for each in self.resources if self._is_there(each))


class TooMany(Exception):
    """There are more resources than asked for; `total` is their number."""

    def __init__(self, total: int) -> None:
        super().__init__(f"{total} resources")
        self.total = total


def everything(
    path: str, capabilities: Capabilities, *, most: int = MOST, attributes: str | None = None
) -> Generator[Request, Response, list[Mapping[str, Any]]]:
    """Return all resources of one kind, each once.

    Args:
        path: "/Users" or "/Groups".
        capabilities: the capabilities of the application.
        most: the largest number.
        attributes: the wanted attributes; None for all.

    Raises:
        TooMany: for more resources.
        RetryableError, ConnectionPausedError, Refused: by the responses; RetryableError also for an
            incomplete list.
    """
    found: dict[str, Mapping[str, Any]] = {}
    start, cursor, total = 1, "", 0
    while True:
        where = {"cursor": cursor} if capabilities.cursor else {"startIndex": str(start)}
        query = {
            **where,
            "count": str(capabilities.page),
            **({"attributes": attributes} if attributes else {}),
        }
        body = classify((yield from _page(Request("GET", path, query))), "reading the list")
        resources = body.get("Resources") or []
        if not isinstance(resources, list):
            raise Refused(
                "The list response of the application is invalid.",
                "Contact the administrator of the application.",
            )
        given = body.get("totalResults")
        total = given if isinstance(given, int) else total
        if total > most or len(found) > most:
            raise TooMany(max(total, len(found)))
        before = len(found)
        found.update(
            {str(each["id"]): each for each in resources if isinstance(each, Mapping) and each.get("id")}
        )
        if capabilities.cursor:
            cursor = str(body.get("nextCursor") or "")
            if not cursor:
                break
        else:
            start += max(len(resources), 1)
            if start > total or not resources:
                break
        if len(found) == before and resources:
            raise RetryableError("The list does not continue: the application returned the same page twice.")
    if len(found) < total and not capabilities.cursor:
        # The list changed while it was read, or is shorter than its total: it is incomplete, so nothing is
        # concluded from it.
        raise RetryableError(
            f"The list has {total} entries, but the application returned {len(found)}.",
            "Dravo reads the list again automatically.",
        )
    return list(found.values())


def _page(request: Request) -> Generator[Request, Response, Response]:
    """Ask for a page, again after a temporary error: starting a long list again would cost more."""
    for _ in range(PAGE_TRIES - 1):
        response = yield request
        if response.status not in (500, 502, 503, 504) or response.retry_after is not None:
            return response
    return (yield request)
