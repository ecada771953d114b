"""`dravo serve`: starts and watches the web and the worker process on one data folder.

A lock on the folder keeps a second service away. This process imports the service once and forks both
processes: they start quickly, also after a crash, and share the memory of imported modules. Each ends when
this process ends. This process also opens the port, so that callers wait while the web process is restarted.
"""

from __future__ import annotations

import contextlib
import errno
import fcntl
import gc
import importlib
import ipaddress
import multiprocessing
import os
import signal
import socket
import sys
import time
from collections.abc import Iterator
from dataclasses import dataclass
from multiprocessing.process import BaseProcess
from pathlib import Path
from typing import TextIO

import structlog

from dravo.core.errors import DravoError, InvalidInput
from dravo.logs import configure
from dravo.protocols import addresses
from dravo.services import data_folder
from dravo.services.context import AppContext
from dravo.services.heartbeats import LOST_SECONDS, Heartbeats
from dravo.store.database import FILE_NAME, Database

LOCK_FILE = "lock"
# Number of callers that can wait while the web process starts.
BACKLOG = 1024
# A process that ends is restarted at once; after early ends, with growing pauses.
LONGEST_PAUSE_SECONDS, STEADY_SECONDS = 15.0, 10.0
# Seconds that the processes have to finish their work, so that the service ends within ten seconds of a
# signal.
END_SECONDS = 8.0
SIGNALS = (signal.SIGTERM, signal.SIGINT)

log = structlog.get_logger("serve")


def check_proxy(proxy: str) -> None:
    """Check that a proxy is given by IP address: a proxy can claim any address for a caller.

    Raises:
        InvalidInput: if not.
    """
    try:
        ipaddress.ip_address(proxy)
    except ValueError:
        raise InvalidInput(
            f"'{proxy}' is not an IP address.", "Enter the address of the proxy, such as 127.0.0.1.", "proxy"
        ) from None


class FolderInUse(DravoError):
    """Another service works on the data folder."""

    code = "folder_in_use"


class NoInstallation(DravoError):
    """Nothing was set up in the data folder."""

    code = "no_installation"


@contextlib.contextmanager
def folder_lock(folder: Path) -> Iterator[None]:
    """Hold the lock of a data folder.

    Raises:
        FolderNotOwned: if the folder belongs to another user of the machine.
        FolderInUse: if another service holds the lock.
    """
    data_folder.secure(folder)
    with open(folder / LOCK_FILE, "a") as file:
        try:
            fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            raise FolderInUse(
                f"Another service uses the folder '{folder}'.",
                "Stop the other service, or choose another folder with --data.",
            ) from None
        yield


class AddressNotUsable(DravoError):
    """The service cannot listen on its address."""

    code = "address_not_usable"


def listen(host: str, port: int) -> list[socket.socket]:
    """Return listening sockets, one for each address of a host that this machine has.

    Args:
        host: a name or an address.

    Raises:
        AddressNotUsable: if the port is in use or not permitted, or the machine has no address of the host.
    """
    if not 0 < port < 65536:
        raise AddressNotUsable(f"{port} is not a valid port.", "Choose a port from 1 to 65535 with --port.")
    known = {
        errno.EADDRINUSE: (
            f"Port {port} of {host} is in use.",
            "Stop the program that uses the port, or choose another port with --port.",
        ),
        errno.EACCES: (
            f"You are not permitted to listen on port {port}.",
            "Choose a port from 1024 with --port, and use a proxy.",
        ),
    }
    opened: list[socket.socket] = []
    try:
        found = socket.getaddrinfo(host, port, type=socket.SOCK_STREAM, flags=socket.AI_PASSIVE)
        for family, address in sorted({(family, address[:2]) for family, _, _, _, address in found}):
            try:
                opened.append(socket.create_server(address, family=family, backlog=BACKLOG))
            except OSError as wrong:
                # A name such as localhost often has an IPv6 address that the machine does not have.
                if wrong.errno in known:
                    raise
    except OSError as wrong:
        for each in opened:
            each.close()
        if wrong.errno in known:
            raise AddressNotUsable(*known[wrong.errno]) from None
    if not opened:
        raise AddressNotUsable(
            f"'{host}' is not an address of this machine.",
            "Choose an address with --host, such as 127.0.0.1.",
        )
    return opened


def load() -> None:
    """Import what both processes need, once, before they are forked.

    No thread may run in this process until they are forked.
    """
    # Imports create no garbage, and collecting takes a tenth of the start.
    gc.disable()
    import dravo.web.process
    import dravo.worker.process  # noqa: F401

    # The collector skips frozen objects, so that their memory stays shared.
    gc.freeze()
    gc.enable()


@dataclass(frozen=True)
class ServiceAddress:
    """Where the service listens, and how browsers and providers reach it.

    Attributes:
        host, port: the address to listen on.
        given_url: the public address, where it differs.
        proxy: the IP address of a proxy whose forwarded headers are trusted, or None.
    """

    host: str
    port: int
    given_url: str | None = None
    proxy: str | None = None

    @property
    def public_url(self) -> str:
        """The address under which browsers and providers reach the service, without a final slash."""
        host = "localhost" if self.host in ("0.0.0.0", "::") else self.host
        return (self.given_url or f"http://{host}:{self.port}").rstrip("/")


class Service:
    """The two processes of one data folder, watched."""

    def __init__(
        self,
        folder: Path,
        address: ServiceAddress,
        *,
        log_file: TextIO | None = None,
        allow_loopback: bool = False,
    ) -> None:
        self.folder, self.address, self.log_file = folder, address, log_file
        self.allow_loopback = allow_loopback
        self.children: dict[str, BaseProcess] = {}
        self.heartbeats = Heartbeats()
        self._started_at: dict[str, float] = {}
        # Number of early ends in a row by process.
        self._failures: dict[str, int] = {}
        # Time of the next start by process.
        self._again_at: dict[str, float] = {}
        self._sockets: list[socket.socket] = []
        self._stopping = self._watching = False
        # Whether the worker is started again after it ended by itself.
        self._restarted = False

    def listen(self) -> None:
        """Open the port.

        Raises:
            AddressNotUsable: if that cannot be.
        """
        self._sockets = listen(self.address.host, self.address.port)

    def start(self) -> None:
        """Start both processes; `listen` and `load` were called before."""
        for name in ("web", "worker"):
            self._spawn(name)

    def _spawn(self, name: str) -> None:
        if name == "worker":
            self.heartbeats.begin()
        self._started_at[name] = time.monotonic()
        # Otherwise the child would write buffered output a second time.
        sys.stdout.flush()
        child = multiprocessing.get_context("fork").Process(target=self._be, args=(name,), name=name)
        # Signals wait until the child has its own handlers: the handlers of this process would swallow them.
        signal.pthread_sigmask(signal.SIG_BLOCK, SIGNALS)
        try:
            child.start()
        finally:
            signal.pthread_sigmask(signal.SIG_UNBLOCK, SIGNALS)
        self.children[name] = child
        self._write_pids()

    def _be(self, name: str) -> None:
        """Be the process of a name, just forked."""
        for each in SIGNALS:
            signal.signal(each, signal.SIG_DFL)
        signal.pthread_sigmask(signal.SIG_UNBLOCK, SIGNALS)
        addresses.allow_loopback(allowed=self.allow_loopback)
        if self.log_file is not None:
            os.dup2(self.log_file.fileno(), 2)
        parent = multiprocessing.parent_process()
        if parent is None:
            raise RuntimeError("this is not a forked process")
        own = self._sockets if name == "web" else []
        # The child closes everything else: the lock on the folder, and the pipe that shows another child that
        # this process lives.
        kept = {0, 1, 2, parent.sentinel, *(each.fileno() for each in own)}
        for descriptor in [int(each.name) for each in Path("/proc/self/fd").iterdir()]:
            if descriptor not in kept:
                # The descriptor of the listing is closed already.
                with contextlib.suppress(OSError):
                    os.close(descriptor)
        try:
            if name == "web":
                web = importlib.import_module("dravo.web.process")
                web.main(self.folder, own, self.address.public_url, self.address.proxy or "", self.heartbeats)
            else:
                worker = importlib.import_module("dravo.worker.process")
                worker.main(self.folder, self.address.public_url, self.heartbeats, restarted=self._restarted)
        except DravoError as wrong:
            log.error("process cannot continue", reason=wrong.message, hint=wrong.hint)
            sys.exit(1)

    def _write_pids(self) -> None:
        """Write the process IDs, for the administrator of the machine."""
        lines = [f"serve {os.getpid()}", *(f"{name} {child.pid}" for name, child in self.children.items())]
        beside = self.folder / "processes.new"
        try:
            beside.write_text("\n".join(lines) + "\n")
            # A reader finds the new or the old lines, never a part.
            beside.replace(self.folder / "processes")
        except OSError as wrong:
            # Processes are watched even if the disk is full.
            log.warning(
                "the process IDs could not be written", file=str(self.folder / "processes"), error=str(wrong)
            )

    def ended(self) -> list[str]:
        """Return the names of the processes that ended."""
        return [name for name, child in self.children.items() if not child.is_alive()]

    def watch(self) -> None:
        """Restart processes that end, and end a worker without heartbeats, until `stop_soon` is called."""
        self._watching = True
        while not self._stopping:
            time.sleep(0.1)
            for name, child in list(self.children.items()):
                if self._stopping:
                    return
                if child.is_alive():
                    self._check_alive(name, child)
                elif name not in self._again_at:
                    self._plan_restart(name, child)
                elif time.monotonic() >= self._again_at[name]:
                    del self._again_at[name]
                    self._spawn_again(name)

    def _spawn_again(self, name: str) -> None:
        """Start a process again; if the system has no room for one, later."""
        self._restarted = self._restarted or name == "worker"
        try:
            self._spawn(name)
        except OSError as wrong:
            log.error(
                "process could not be started",
                name=name,
                error=str(wrong),
                pause_seconds=LONGEST_PAUSE_SECONDS,
            )
            self._again_at[name] = time.monotonic() + LONGEST_PAUSE_SECONDS

    def _plan_restart(self, name: str, child: BaseProcess) -> None:
        lived = time.monotonic() - self._started_at[name]
        failures = self._failures[name] = 0 if lived >= STEADY_SECONDS else self._failures.get(name, 0) + 1
        pause = 0.0 if failures <= 1 else min(LONGEST_PAUSE_SECONDS, 2.0 ** (failures - 2))
        self._again_at[name] = time.monotonic() + pause
        log.error("process ended and is restarted", name=name, exit_code=child.exitcode, pause_seconds=pause)

    def _check_alive(self, name: str, child: BaseProcess) -> None:
        if name == "worker" and (late := self.heartbeats.late(LOST_SECONDS)):
            log.error("the worker does not respond and is stopped", loops=late)
            child.kill()
            child.join()

    def stop_soon(self) -> None:
        """Let `watch` return. Called by signal handlers, which may interrupt anything, so it waits for
        nothing.

        Raises:
            KeyboardInterrupt: before `watch` is reached, to end the start.
        """
        self._stopping = True
        if not self._watching:
            raise KeyboardInterrupt

    def check(self) -> None:
        """End the start before `watch`, if a stop was requested.

        An interrupt inside a destructor is lost (Python ignores exceptions there).

        Raises:
            KeyboardInterrupt: if so.
        """
        if self._stopping:
            raise KeyboardInterrupt

    def stop(self) -> None:
        """End both processes, with time to finish their current work."""
        self._stopping = True
        for each in self._sockets:
            each.close()
        for child in self.children.values():
            child.terminate()
        end = time.monotonic() + END_SECONDS
        for child in self.children.values():
            # Not `join` with a timeout: it needs a descriptor that the child has closed, and could wait
            # forever.
            while child.is_alive() and time.monotonic() < end:
                time.sleep(0.05)
            if child.is_alive():
                child.kill()
                child.join()
        if (self.folder / FILE_NAME).exists():
            # No other process has it open: afterwards the file alone holds everything.
            database = Database(self.folder)
            with contextlib.suppress(DravoError):
                database.checkpoint()
            database.close()


def serve(
    folder: Path,
    host: str,
    port: int,
    public_url: str | None = None,
    proxy: str | None = None,
    *,
    allow_loopback: bool = False,
) -> None:
    """Serve until interrupted.

    Args:
        proxy: the address of a trusted proxy.
        allow_loopback: whether Dravo may call applications, directories and email servers on this machine.

    Raises:
        InvalidInput: for a wrong proxy address.
        FolderInUse: if another service uses the folder.
        AddressNotUsable: if the service cannot listen there.
        NoInstallation: if the folder is empty.
    """
    if proxy is not None:
        check_proxy(proxy)
    configure("serve")
    os.umask(data_folder.PRIVATE_UMASK)
    if not (folder / FILE_NAME).exists():
        raise NoInstallation(
            f"The folder '{folder}' has no installation.",
            f"Create one: dravo init --data {folder} --operator NAME",
        )
    with folder_lock(folder):
        load()
        # Migrates the database and reports errors before anything is started.
        AppContext(folder).close()
        address = ServiceAddress(host, port, public_url, proxy)
        service = Service(folder, address, allow_loopback=allow_loopback)
        service.listen()
        signal.signal(signal.SIGTERM, lambda *_: service.stop_soon())
        signal.signal(signal.SIGINT, lambda *_: service.stop_soon())
        try:
            service.start()
            log.info("serving", address=address.public_url, folder=str(folder))
            service.watch()
        finally:
            service.stop()
