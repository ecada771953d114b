"""The web process: console, management API and inbound SCIM of one data folder, as `dravo.serving` starts
it.
"""

from __future__ import annotations

import os
import resource
import signal
import socket
from pathlib import Path

import waitress

from dravo import child_process
from dravo.services.context import AppContext
from dravo.services.heartbeats import Heartbeats
from dravo.web.app import create_app

WEB_THREADS = 8
# Maximum number of connections, and seconds after which an idle one is closed.
CONNECTIONS, IDLE_SECONDS = 4_000, 30


def run_web(
    ctx: AppContext, sockets: list[socket.socket], public_url: str, proxy: str, heartbeats: Heartbeats
) -> None:
    """Run the web process.

    Args:
        sockets: the listening sockets.
        proxy: the address of a trusted proxy; "" without one.
    """
    _allow_connections()
    app = create_app(ctx, public_url, heartbeats)
    child_process.keep_what_is_loaded()
    # Limits count by address; behind a proxy all callers would have the same one. The header of other callers
    # is dropped.
    behind = (
        {"trusted_proxy": proxy, "trusted_proxy_count": 1, "trusted_proxy_headers": {"x-forwarded-for"}}
        if proxy
        else {}
    )
    waitress.serve(
        app,
        sockets=sockets,
        threads=WEB_THREADS,
        ident="dravo",
        max_request_body_size=32 * 1024 * 1024,
        connection_limit=CONNECTIONS,
        channel_timeout=IDLE_SECONDS,
        cleanup_interval=10,
        asyncore_use_poll=True,
        clear_untrusted_proxy_headers=True,
        **behind,
    )


def _allow_connections() -> None:
    """Raise the limit of open files for this process, as far as the system allows."""
    soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    wanted = CONNECTIONS + 500
    if soft != resource.RLIM_INFINITY and soft < wanted:
        resource.setrlimit(
            resource.RLIMIT_NOFILE, (wanted if hard == resource.RLIM_INFINITY else min(wanted, hard), hard)
        )


def main(
    folder: Path, sockets: list[socket.socket], public_url: str, proxy: str, heartbeats: Heartbeats
) -> None:
    """Serve where `dravo.serving` listens."""
    ctx = child_process.begin("web", folder)
    signal.signal(signal.SIGTERM, lambda *_: os._exit(0))
    run_web(ctx, sockets, public_url, proxy, heartbeats)
