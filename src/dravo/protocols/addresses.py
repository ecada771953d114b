"""Which addresses Dravo calls: never link-local ones or metadata services, and this machine only if that is
allowed at the start.

A name is resolved once, and the address that was checked is the one that is called.
"""

from __future__ import annotations

import ipaddress
import socket

from dravo.core.errors import DravoError

Address = ipaddress.IPv4Address | ipaddress.IPv6Address

# Metadata services of hosting networks outside link-local addresses: they return the credentials of the
# machine to any local caller.
_METADATA = frozenset(
    map(
        ipaddress.ip_address,
        ("100.100.100.200", "168.63.129.16", "192.0.0.192", "fd00:ec2::254", "fd20:ce::254"),
    )
)
_NAT64 = ipaddress.IPv6Network("64:ff9b::/96")


class AddressNotAllowed(DravoError):
    """The address is one that is never called."""

    code = "address_not_allowed"
    status = 422


class Unreachable(Exception):
    """No response arrived. `sent` tells whether the request may have been carried out."""

    def __init__(self, message: str, *, sent: bool) -> None:
        super().__init__(message)
        self.sent = sent


class _Loopback:
    """Whether this machine itself is called."""

    allowed = False


def allow_loopback(*, allowed: bool = True) -> None:
    """Let this process and its forks call this machine too: for the demo, and for applications beside the
    service.
    """
    _Loopback.allowed = allowed


def is_host(text: str) -> bool:
    """Whether a text can be the name, or the address, of a machine."""
    try:
        ipaddress.ip_address(text)
    except ValueError:
        try:
            return 0 < len(text.encode("idna")) <= 253
        except UnicodeError:
            return False
    return True


def resolve(host: str, port: int) -> Address:
    """Return the address of a host that will be called.

    Raises:
        NotAllowed: if any of its addresses is one that is not called.
        Unreachable: if the name has no address.
    """
    try:
        # An IP address needs no name resolution.
        addresses = [ipaddress.ip_address(host)]
    except ValueError:
        try:
            found = socket.getaddrinfo(host, port, type=socket.SOCK_STREAM)
        except (OSError, UnicodeError):
            # Also for text that cannot be a host name, such as one with two dots in a row.
            raise Unreachable(f"the name '{host}' has no address", sent=False) from None
        addresses = [ipaddress.ip_address(str(each[4][0]).partition("%")[0]) for each in found]
    addresses = [getattr(each, "ipv4_mapped", None) or each for each in addresses]
    for address in addresses:
        for each in _meant(address):
            _check(host, each)
    return addresses[0]


def _meant(address: Address) -> list[Address]:
    """Return an address, and those of IPv4 that it leads to."""
    if isinstance(address, ipaddress.IPv4Address):
        return [address]
    if address in _NAT64:
        return [ipaddress.IPv4Address(int(address) & 0xFFFFFFFF)]
    return [address] if address.sixtofour is None else [address, address.sixtofour]


def _check(host: str, address: Address) -> None:
    if address.is_loopback:
        if not _Loopback.allowed:
            raise AddressNotAllowed(
                f"'{host}' is this machine ({address}). Dravo does not call it.",
                "Enter another address, or start Dravo with --allow-loopback.",
            )
    elif (
        address.is_link_local
        or address.is_multicast
        or address.is_unspecified
        or address.is_reserved
        or address in _METADATA
    ):
        raise AddressNotAllowed(
            f"'{host}' has the address {address}. Dravo never calls this address.",
            "Enter the address of the application.",
        )
