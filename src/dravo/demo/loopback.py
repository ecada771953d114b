"""How the demo calls the service and the stand-ins: plain HTTP on this machine, so that no certificates are
read and no proxy is asked.
"""

from __future__ import annotations

import httpx


def client(base_url: str = "", *, follow_redirects: bool = False) -> httpx.Client:
    """Return an HTTP client for addresses of this machine."""
    return httpx.Client(
        base_url=base_url, follow_redirects=follow_redirects, timeout=60, trust_env=False, verify=False
    )


http = client()
