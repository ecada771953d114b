"""The web process: console, management API and push channel of one data folder, as `dravo.serving` starts it."""

from __future__ import annotations

import os
import signal
import socket
from pathlib import Path

import waitress

from dravo import process
from dravo.services.heartbeats import Heartbeats
from dravo.services.house import House
from dravo.web.app import create_app

WEB_THREADS = 8


def run_web(house: House, sockets: list[socket.socket], public_url: str, proxy: str, heartbeats: Heartbeats) -> None:
    """Be the web process.

    Args:
        sockets: on which callers come; they listen already.
        proxy: the address of a proxy whose word on where callers are is taken; "" for none.
    """
    app = create_app(house, public_url, heartbeats)
    process.keep_what_is_loaded()
    # Limits count by where a caller is; behind a proxy everybody would be in one place. Of anybody else such a word is dropped.
    behind = {"trusted_proxy": proxy, "trusted_proxy_count": 1, "trusted_proxy_headers": {"x-forwarded-for"}} if proxy else {}
    waitress.serve(
        app, sockets=sockets, threads=WEB_THREADS, ident="dravo", clear_untrusted_proxy_headers=True, max_request_body_size=32 * 1024 * 1024,
        **behind,
    )  # fmt: skip


def main(folder: Path, sockets: list[socket.socket], public_url: str, proxy: str, heartbeats: Heartbeats) -> None:
    """Serve where `dravo.serving` listens."""
    house = process.begin("web", folder)
    signal.signal(signal.SIGTERM, lambda *_: os._exit(0))
    run_web(house, sockets, public_url, proxy, heartbeats)
