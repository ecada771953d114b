"""The messages of RFC 7644 around resources: lists, and what this service can do."""

from __future__ import annotations

from typing import Any

LIST_SCHEMA = "urn:ietf:params:scim:api:messages:2.0:ListResponse"
CONFIG_SCHEMA = "urn:ietf:params:scim:schemas:core:2.0:ServiceProviderConfig"
LARGEST_PAGE = 500


def list_response(resources: list[dict[str, Any]], total: int, start_index: int) -> dict[str, Any]:
    """Return one page of a query (RFC 7644, section 3.4.2); `start_index` counts from 1."""
    return {
        "schemas": [LIST_SCHEMA],
        "totalResults": total,
        "startIndex": start_index,
        "itemsPerPage": len(resources),
        "Resources": resources,
    }


def service_provider_config(location: str) -> dict[str, Any]:
    """Return what the push channel offers (RFC 7643, section 5): only what works is advertised."""
    return {
        "schemas": [CONFIG_SCHEMA],
        "patch": {"supported": True},
        "bulk": {"supported": False, "maxOperations": 0, "maxPayloadSize": 0},
        "filter": {"supported": True, "maxResults": LARGEST_PAGE},
        "changePassword": {"supported": False},
        "sort": {"supported": False},
        "etag": {"supported": False},
        "authenticationSchemes": [
            {
                "type": "oauthbearertoken",
                "name": "Bearer token",
                "description": "A token of this source, sent in the Authorization header (RFC 6750).",
                "primary": True,
            }
        ],
        "meta": {"resourceType": "ServiceProviderConfig", "location": location},
    }
