"""Messages of RFC 7644 beside resources: lists, searches, and what the service supports."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from dravo.core.scim.bulk import LARGEST_PAYLOAD, MOST_OPERATIONS
from dravo.core.scim.errors import invalid_syntax, invalid_value

LIST_SCHEMA = "urn:ietf:params:scim:api:messages:2.0:ListResponse"
CONFIG_SCHEMA = "urn:ietf:params:scim:schemas:core:2.0:ServiceProviderConfig"
LARGEST_PAGE = 500
SEARCHED_BY = (
    "attributes",
    "excludedAttributes",
    "filter",
    "sortBy",
    "sortOrder",
    "startIndex",
    "count",
    "cursor",
)


def list_response(
    resources: list[dict[str, Any]], total: int, start_index: int | None, next_cursor: str | None = None
) -> dict[str, Any]:
    """Return one page of a query.

    Args:
        resources: the resources of the page.
        total: the number of all results.
        start_index: the number of the first result, from 1 (RFC 7644, section 3.4.2); None in pages by
            cursor.
        next_cursor: the cursor of the next page (RFC 9865); None without one, or in pages by index.
    """
    message: dict[str, Any] = {
        "schemas": [LIST_SCHEMA],
        "totalResults": total,
        "itemsPerPage": len(resources),
        "Resources": resources,
    }
    if start_index is not None:
        message["startIndex"] = start_index
    if next_cursor is not None:
        message["nextCursor"] = next_cursor
    return message


def read_search(payload: Any) -> dict[str, str]:
    """Return the parameters of a SearchRequest as URL parameters (RFC 7644, section 3.4.3).

    Raises:
        ScimError: 400 invalidSyntax or invalidValue.
    """
    if not isinstance(payload, Mapping):
        raise invalid_syntax("The body is not a JSON object. Send a SearchRequest.")
    names = {name.lower(): name for name in SEARCHED_BY}
    found = {}
    for key, value in payload.items():
        name = names.get(str(key).lower())
        if name is None or value is None:
            continue
        if (
            isinstance(value, list)
            and name in ("attributes", "excludedAttributes")
            and all(isinstance(each, str) for each in value)
        ):
            found[name] = ",".join(value)
        elif isinstance(value, str | int) and not isinstance(value, bool):
            found[name] = str(value)
        else:
            raise invalid_value(f"'{name}' cannot be {str(value)[:40]!r}.")
    return found


def service_provider_config(location: str) -> dict[str, Any]:
    """Return what inbound SCIM supports (RFC 7643, section 5; RFC 9865, section 4)."""
    return {
        "schemas": [CONFIG_SCHEMA],
        "patch": {"supported": True},
        "bulk": {"supported": True, "maxOperations": MOST_OPERATIONS, "maxPayloadSize": LARGEST_PAYLOAD},
        "filter": {"supported": True, "maxResults": LARGEST_PAGE},
        "changePassword": {"supported": False},
        "sort": {"supported": True},
        "etag": {"supported": True},
        "pagination": {
            "cursor": True,
            "index": True,
            "defaultPaginationMethod": "index",
            "defaultPageSize": 100,
            "maxPageSize": LARGEST_PAGE,
        },
        "authenticationSchemes": [
            {
                "type": "oauthbearertoken",
                "name": "Bearer token",
                "description": "A token of this source, sent in the Authorization header.",
                "specUri": "https://www.rfc-editor.org/info/rfc6750",
                "primary": True,
            }
        ],
        "meta": {"resourceType": "ServiceProviderConfig", "location": location},
    }
