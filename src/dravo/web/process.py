"""The web process: console, management API and push channel of one data folder, as `dravo.serving` starts it."""

from __future__ import annotations

import gc
import os
import signal
import sys

import waitress

from dravo import process
from dravo.services.house import House
from dravo.web.app import create_app

WEB_THREADS = 8


def run_web(house: House, host: str, port: int, public_url: str) -> None:
    """Be the web process."""
    app = create_app(house, public_url)
    # What was made at the start stays; requests make much that lives shortly, which needs no search for circles every moment.
    gc.collect()
    gc.freeze()
    gc.set_threshold(20_000, 20, 50)
    waitress.serve(
        app, host=host, port=port, threads=WEB_THREADS, ident="dravo", clear_untrusted_proxy_headers=True, max_request_body_size=32 * 1024 * 1024
    )


def main(arguments: list[str]) -> None:
    """Serve on the address that `dravo.serving` names."""
    folder, host, port, public_url = arguments
    house = process.begin("web", folder)
    signal.signal(signal.SIGTERM, lambda *_: os._exit(0))
    run_web(house, host, int(port), public_url)


if __name__ == "__main__":
    main(sys.argv[1:])
