"""Where callers are, as far as limits on tries are concerned."""

from __future__ import annotations

import ipaddress

from flask import request

# The network of one host or household (RFC 6177), which has more addresses than any limit could count.
NETWORK = 64


def place() -> str:
    """Return the caller's address for rate limits; of IPv6 the network."""
    return place_of(request.remote_addr or "")


def place_of(address: str) -> str:
    """Return an address in a form that is the same for all addresses that one caller can choose.

    Args:
        address: as the server reports it; a text that is no address is returned unchanged.
    """
    try:
        found = ipaddress.ip_address(address)
    except ValueError:
        return address
    if isinstance(found, ipaddress.IPv4Address):
        return address
    if found.ipv4_mapped is not None:
        return str(found.ipv4_mapped)
    return str(ipaddress.ip_network((int(found), NETWORK), strict=False))
