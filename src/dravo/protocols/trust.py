"""Certificates of an organization's own certificate authority, for a connection to a server that uses it."""

from __future__ import annotations

import functools
import ssl

import httpx

from dravo.core.errors import InvalidInput
from dravo.protocols.saml.certificates import read_certificates


def read_ca(text: str, field: str = "ca") -> str:
    """Return the certificates of an authority as PEM, checked; an empty text for public authorities only.

    Raises:
        InvalidInput: for a text without certificates, or with a private key.
    """
    if not text.strip():
        return ""
    try:
        return "".join(f"{each.pem.strip()}\n" for each in read_certificates(text))
    except InvalidInput as wrong:
        raise InvalidInput(f"CA certificate: {wrong.message}", wrong.hint, field) from None


@functools.lru_cache(maxsize=64)
def trusted(ca: str = "") -> ssl.SSLContext:
    """Return the trusted certificates, read once, because reading takes long.

    Args:
        ca: further trusted certificates as PEM, for one connection.
    """
    context = httpx.create_ssl_context(trust_env=False)
    if ca:
        context.load_verify_locations(cadata=ca)
    return context
