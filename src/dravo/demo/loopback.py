"""Plain HTTP calls of the demo on this machine, without certificates and proxies."""

from __future__ import annotations

import httpx


def client(base_url: str = "", *, follow_redirects: bool = False) -> httpx.Client:
    """Return an HTTP client for addresses of this machine."""
    return httpx.Client(
        base_url=base_url, follow_redirects=follow_redirects, timeout=60, trust_env=False, verify=False
    )


http = client()
