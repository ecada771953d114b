"""Ports, private files, waiting and plain HTTP calls on this machine, for the demo and for tests."""

from __future__ import annotations

import json
import os
import secrets
import socket
from collections.abc import Callable
from pathlib import Path
from typing import Any

import httpx
from tenacity import (
    RetryError,
    Retrying,
    retry_if_exception_type,
    retry_if_not_result,
    stop_after_delay,
    wait_fixed,
)

from dravo.core.errors import DravoError

FILE = "demo.json"


class DemoFailed(DravoError):
    """The demo could not be set up."""

    code = "demo_failed"


def write_private(path: Path, content: Any) -> None:
    """Write JSON into a file that only its owner can read; a program that waits for the file sees it
    complete.
    """
    path.parent.mkdir(parents=True, exist_ok=True)
    part = path.with_name(path.name + ".part")
    handle = os.open(part, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
    with os.fdopen(handle, "w") as file:
        json.dump(content, file, indent=2)
    part.replace(path)


def listen_near(port: int) -> socket.socket:
    """Return a listening socket on loopback at a port, or at another one if that is taken."""
    while True:
        try:
            return socket.create_server(("127.0.0.1", port), backlog=256)
        except OSError:
            port = free_port()


def free(port: int) -> bool:
    """Whether nothing listens at a port of this machine."""
    with socket.socket() as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            probe.bind(("127.0.0.1", port))
        except OSError:
            return False
        return True


def free_port() -> int:
    """Return a free port of this machine outside of the range for outgoing connections."""
    while not free(port := 16_000 + secrets.randbelow(16_000)):
        pass
    return port


def wait_until(holds: Callable[[], bool], what: str, seconds: float) -> None:
    """Wait until a condition holds.

    Raises:
        DemoFailed: if it does not hold in time.
    """
    again = retry_if_exception_type(httpx.HTTPError) | retry_if_not_result(bool)
    try:
        Retrying(stop=stop_after_delay(seconds), wait=wait_fixed(0.05), retry=again)(holds)
    except RetryError:
        raise DemoFailed(
            f"No result for {what} after {seconds:.0f} seconds.", "See service.log in the data folder."
        ) from None


def client(base_url: str = "", *, follow_redirects: bool = False) -> httpx.Client:
    """Return an HTTP client for addresses of this machine."""
    return httpx.Client(
        base_url=base_url, follow_redirects=follow_redirects, timeout=60, trust_env=False, verify=False
    )


http = client()
