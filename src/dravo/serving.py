"""`dravo serve`: starts and watches the web and the worker process on one data folder.

A lock on the folder keeps a second service away. This process imports the whole service once and forks both processes from it: they
start quickly, also when one of them has to be started again, and share the memory of what was imported. Each ends when this process is gone.
"""

from __future__ import annotations

import contextlib
import fcntl
import gc
import ipaddress
import multiprocessing
import os
import signal
import sys
import time
from collections.abc import Iterator
from multiprocessing.process import BaseProcess
from pathlib import Path
from typing import Any, TextIO

from dravo.core.errors import DravoError, InvalidInput
from dravo.services.key_place import has_key
from dravo.store import schema_version

LOCK_FILE = "lock"


def _log() -> Any:
    # Imported at its first use, so that a wrong option is told without waiting for it.
    import structlog

    return structlog.get_logger("serve")


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


def prepare_folder(folder: Path) -> None:
    """Bring a data folder to the present schema and give it a key, if it lacks either.

    Raises:
        DravoError: if the records cannot be opened, or the key cannot be read.
    """
    from dravo.services.house import House

    House(folder).close()


def check_key(folder: Path) -> None:
    """Check that the key of a data folder can be read.

    Raises:
        KeyMissing: if not.
    """
    from dravo.services.secrets import Keys

    Keys(folder)


def load() -> None:
    """Import what both processes need; whatever is imported before they are forked is imported once.

    No thread may run in this process from then on until they are forked.
    """
    # Nothing that importing creates becomes garbage; looking for it takes a tenth of the start.
    gc.disable()
    import dravo.web.process
    import dravo.worker.process  # noqa: F401

    # What is frozen is not touched by the collector, so that its memory stays shared.
    gc.freeze()
    gc.enable()


class Service:
    """The two processes of one data folder, watched."""

    def __init__(
        self, folder: Path, host: str, port: int, public_url: str | None = None, log_file: TextIO | None = None, proxy: str | None = None
    ) -> None:
        self.folder, self.host, self.port, self.log_file, self.proxy = folder, host, port, log_file, proxy or ""
        self.public_url = (public_url or f"http://{'localhost' if host in ('0.0.0.0', '::') else host}:{port}").rstrip("/")
        self.children: dict[str, BaseProcess] = {}
        self._stopping = False

    def start(self) -> None:
        """Start both processes; `load` was called before."""
        for name in ("web", "worker"):
            self._spawn(name)

    def _spawn(self, name: str) -> None:
        arguments = [str(self.folder), self.host, str(self.port), self.public_url, self.proxy]
        # Whatever waits in a buffer would be written by the child as well.
        sys.stdout.flush()
        child = multiprocessing.get_context("fork").Process(target=_be, args=(name, arguments, self.log_file), name=name)
        child.start()
        self.children[name] = child
        self._write_pids()

    def _write_pids(self) -> None:
        """Say which processes they are, for whoever looks after the machine."""
        lines = [f"serve {os.getpid()}", *(f"{name} {child.pid}" for name, child in self.children.items())]
        beside = self.folder / "processes.new"
        beside.write_text("\n".join(lines) + "\n")
        # Whoever reads it finds all lines or those from before, never half of them.
        beside.replace(self.folder / "processes")

    def watch(self) -> None:
        """Start anew whichever process ends, until `stop_soon` is called; more slowly if it ends again and again."""
        ended_at: dict[str, float] = {}
        while not self._stopping:
            time.sleep(0.1)
            for name, child in list(self.children.items()):
                if self._stopping or child.is_alive():
                    continue
                _log().error("process ended and is started again", name=name, exit_code=child.exitcode)
                if time.monotonic() - ended_at.get(name, -60.0) < 2.0:
                    time.sleep(2.0)
                ended_at[name] = time.monotonic()
                if not self._stopping:
                    self._spawn(name)

    def stop_soon(self) -> None:
        """Have `watch` return; for a signal's handler, which may interrupt anything and therefore only sets a flag."""
        self._stopping = True

    def stop(self) -> None:
        """End both processes, giving them time to finish what is under way."""
        self._stopping = True
        for child in self.children.values():
            child.terminate()
        for child in self.children.values():
            child.join(30)
            if child.is_alive():
                child.kill()
                child.join()


def _be(name: str, arguments: list[str], log_file: TextIO | None) -> None:
    """Be the process of a name, just forked."""
    for each in (signal.SIGTERM, signal.SIGINT):
        signal.signal(each, signal.SIG_DFL)
    if log_file is not None:
        os.dup2(log_file.fileno(), 2)
    parent = multiprocessing.parent_process()
    kept = {0, 1, 2, parent.sentinel if parent is not None else 2}
    # Nothing else is the child's: not the lock on the folder, nor what tells another child that this process is alive.
    for descriptor in [int(each.name) for each in Path("/proc/self/fd").iterdir()]:
        if descriptor not in kept:
            # The one by which they were listed is closed already.
            with contextlib.suppress(OSError):
                os.close(descriptor)
    from dravo import process

    process.main([name, *arguments])


def serve(folder: Path, host: str, port: int, public_url: str | None = None, proxy: str | None = None) -> None:
    """Serve until interrupted.

    Args:
        proxy: the address of a proxy in front, whose word on where callers are is taken.

    Raises:
        InvalidInput: if that is no address.
    """
    if proxy is not None:
        check_proxy(proxy)
    with folder_lock(folder):
        load()
        if not schema_version.is_current(folder) or not has_key(folder):
            prepare_folder(folder)
        check_key(folder)
        service = Service(folder, host, port, public_url, proxy=proxy)
        signal.signal(signal.SIGTERM, lambda *_: service.stop_soon())
        signal.signal(signal.SIGINT, lambda *_: service.stop_soon())
        service.start()
        try:
            from dravo.logs import configure

            configure("serve")
            _log().info("serving", address=service.public_url, folder=str(folder))
            service.watch()
        finally:
            service.stop()
