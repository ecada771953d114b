"""Bulk requests for applications that offer them (RFC 7644, section 3.7): joined from single requests, and
taken apart.

Conversations continue as if each request had been sent alone: the response is split into one for each.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import Any, TypeGuard
from urllib.parse import unquote, urlsplit

import orjson

from dravo.protocols.http_client import Request, Response
from dravo.protocols.scim_client.capabilities import Capabilities

BULK_URN = "urn:ietf:params:scim:api:messages:2.0:BulkRequest"
# Maximum number of changes in a bulk request, whatever is offered: one lost response makes all of them
# uncertain.
MOST = 100
# Bytes that one operation adds to its body.
AROUND = 200


def is_change(question: object) -> TypeGuard[Request]:
    """Whether a conversation's question is a request that may go together with others."""
    return isinstance(question, Request) and question.method != "GET"


def most_together(capabilities: Capabilities) -> int:
    """Return how many changes go in one request to an application; 1 where it does not offer that."""
    if not capabilities.bulk:
        return 1
    return max(1, min(capabilities.bulk_operations or MOST, MOST))


def parts(requests: Sequence[Request], capabilities: Capabilities) -> Iterator[list[int]]:
    """Yield ranges of requests to send together, within the application's limits.

    Args:
        requests: changes, each of one resource.
        capabilities: the capabilities of the application.
    """
    most, largest = most_together(capabilities), capabilities.bulk_payload
    some: list[int] = []
    size = AROUND
    for place, request in enumerate(requests):
        own = AROUND + len(request.path) + len(orjson.dumps(request.body))
        if some and (len(some) >= most or (largest is not None and size + own > largest)):
            yield some
            some, size = [], AROUND
        some.append(place)
        size += own
    if some:
        yield some


def joined(requests: Sequence[Request]) -> Request:
    """Return one bulk request for all of them."""
    operations = [
        {
            "method": each.method,
            "path": each.path,
            "bulkId": str(place),
            **({"data": each.body} if each.body is not None else {}),
        }
        for place, each in enumerate(requests)
    ]
    return Request("POST", "/Bulk", body={"schemas": [BULK_URN], "Operations": operations})


def is_not_taken(response: Response) -> bool:
    """Whether a response says that the application does not accept bulk requests after all, or not so many
    operations.
    """
    return response.status in (400, 404, 405, 413, 501)


def apart(requests: Sequence[Request], response: Response) -> list[Response | None]:
    """Return the response to each request; None for those without one, whose outcome is unknown.

    Args:
        requests: the requests as they were joined.
        response: the response to all of them. An error counts for each.
    """
    if not response.ok:
        return [response] * len(requests)
    told = (response.body or {}).get("Operations")
    listed = [each for each in told if isinstance(each, Mapping)] if isinstance(told, list) else []
    by_id = {str(each["bulkId"]): each for each in listed if each.get("bulkId") is not None}
    if not by_id and len(listed) == len(requests):
        # A bulkId is required for POST only; without it, results are in the order of the request.
        by_id = {str(place): each for place, each in enumerate(listed)}
    return [_own(request, by_id.get(str(place)), response) for place, request in enumerate(requests)]


def _own(request: Request, result: Mapping[str, Any] | None, whole: Response) -> Response | None:
    if result is None:
        return None
    status = result.get("status")
    if isinstance(status, Mapping):
        # The form of the first drafts of the standard.
        status = status.get("code")
    try:
        code = int(str(status))
    except ValueError:
        return None
    if not 100 <= code <= 599:
        return None
    location = str(result["location"]) if result.get("location") else None
    body = result.get("response")
    if not isinstance(body, Mapping):
        # After a success the resource can be missing; its ID is in the location.
        made = request.method == "POST" and code < 300 and location
        body = {"id": unquote(urlsplit(str(location)).path.rstrip("/").rpartition("/")[2])} if made else {}
    return Response(
        code,
        body,
        orjson.dumps(body).decode()[:400],
        whole.content_type,
        whole.retry_after,
        location,
        whole.seconds,
    )
