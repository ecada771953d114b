"""`dravo serve`: starts and watches the web and the worker process on one data folder.

A lock on the folder keeps a second service away. Each process notices when its parent is gone (the pipe on its standard input
closes) and ends; the parent starts anew whichever ends by itself.
"""

from __future__ import annotations

import contextlib
import fcntl
import ipaddress
import os
import signal
import subprocess
import sys
import threading
import time
from collections.abc import Iterator
from pathlib import Path
from typing import TextIO

import structlog

from dravo.core.errors import DravoError, InvalidInput
from dravo.logs import configure
from dravo.services.house import House

LOCK_FILE = "lock"

log = structlog.get_logger("serve")


def check_proxy(proxy: str) -> None:
    """Make sure that a proxy is named by its address: whoever it is may say of any caller where they are.

    Raises:
        InvalidInput: if not.
    """
    try:
        ipaddress.ip_address(proxy)
    except ValueError:
        raise InvalidInput(f"'{proxy}' is no address of a machine.", "Give the proxy's own, such as 127.0.0.1.", "proxy") from None


class FolderInUse(DravoError):
    """Another service works on the data folder."""

    code = "folder_in_use"


@contextlib.contextmanager
def folder_lock(folder: Path) -> Iterator[None]:
    """Hold a data folder for oneself.

    Raises:
        FolderInUse: if another service has it.
    """
    folder.mkdir(parents=True, exist_ok=True)
    with open(folder / LOCK_FILE, "a") as file:
        try:
            fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            raise FolderInUse(f"Another service works on the folder '{folder}'.", "Stop it first, or give another folder with --data.") from None
        yield


class Service:
    """The two processes of one data folder, watched."""

    def __init__(
        self, folder: Path, host: str, port: int, public_url: str | None = None, log_file: TextIO | None = None, proxy: str | None = None
    ) -> None:
        self.folder, self.host, self.port, self.log_file, self.proxy = folder, host, port, log_file, proxy or ""
        self.public_url = (public_url or f"http://{'localhost' if host in ('0.0.0.0', '::') else host}:{port}").rstrip("/")
        self.children: dict[str, subprocess.Popen[bytes]] = {}
        self._stopping = threading.Event()

    def start(self) -> None:
        """Start both processes."""
        for name in ("web", "worker"):
            self._spawn(name)

    def _spawn(self, name: str) -> None:
        command = [sys.executable, "-m", f"dravo.{name}.process", str(self.folder), self.host, str(self.port), self.public_url]
        if name == "web":
            command.append(self.proxy)
        self.children[name] = subprocess.Popen(command, stdin=subprocess.PIPE, stderr=self.log_file)
        self._write_pids()

    def _write_pids(self) -> None:
        """Say which processes they are, for whoever looks after the machine."""
        lines = [f"serve {os.getpid()}", *(f"{name} {child.pid}" for name, child in self.children.items())]
        beside = self.folder / "processes.new"
        beside.write_text("\n".join(lines) + "\n")
        # Whoever reads it finds all lines or those from before, never half of them.
        beside.replace(self.folder / "processes")

    def watch(self) -> None:
        """Start anew whichever process ends, until `stop` is called; more slowly if it ends again and again."""
        ended_at: dict[str, float] = {}
        while not self._stopping.wait(0.2):
            for name, child in list(self.children.items()):
                if child.poll() is None or self._stopping.is_set():
                    continue
                log.error("process ended and is started again", name=name, exit_code=child.returncode)
                if time.monotonic() - ended_at.get(name, -60.0) < 2.0:
                    self._stopping.wait(2.0)
                ended_at[name] = time.monotonic()
                if not self._stopping.is_set():
                    self._spawn(name)

    def stop(self) -> None:
        """End both processes, giving them time to finish what is under way."""
        self._stopping.set()
        for child in self.children.values():
            with contextlib.suppress(ProcessLookupError):
                child.terminate()
        for child in self.children.values():
            try:
                child.wait(30)
            except subprocess.TimeoutExpired:
                child.kill()
                child.wait()


def serve(folder: Path, host: str, port: int, public_url: str | None = None, proxy: str | None = None) -> None:
    """Serve until interrupted.

    Args:
        proxy: the address of a proxy in front, whose word on where callers are is taken.

    Raises:
        InvalidInput: if that is no address.
    """
    if proxy is not None:
        check_proxy(proxy)
    configure("serve")
    with folder_lock(folder):
        House(folder).close()
        service = Service(folder, host, port, public_url, proxy=proxy)
        signal.signal(signal.SIGTERM, lambda *_: service.stop())
        signal.signal(signal.SIGINT, lambda *_: service.stop())
        service.start()
        log.info("serving", address=service.public_url, folder=str(folder))
        service.watch()
        service.stop()
