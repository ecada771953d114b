"""`dravo` as a process of its own: what only an operating system shows.

All other commands are run in the tests' own process.
"""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import threading
from collections.abc import Callable
from pathlib import Path
from typing import Any

from dravo.demo.http_server import Answer, make_server
from tests.harness import Running, eventually

Fresh = Callable[[str], str]
DRAVO = str(Path(sys.executable).with_name("dravo"))


def started(running: Running, *arguments: str, **more: Any) -> subprocess.Popen[str]:
    environment = {**os.environ, "DRAVO_URL": running.url, "DRAVO_TOKEN": running.api_token, **more}
    # Tests that a shell runs in the background ignore SIGINT, and their children would inherit that.
    before = signal.signal(signal.SIGINT, signal.default_int_handler)
    try:
        return subprocess.Popen(
            [DRAVO, *arguments], stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True, env=environment
        )
    finally:
        signal.signal(signal.SIGINT, before)


def test_the_installed_command_prints_and_ends_with_its_exit_code(running: Running) -> None:
    process = started(running, "source", "list", "--json")
    out, err = process.communicate(timeout=60)
    assert (process.returncode, err) == (0, "") and out.startswith("[")
    process = started(running, "source", "list", DRAVO_TOKEN="wrong")
    out, err = process.communicate(timeout=60)
    assert process.returncode == 4 and out == "" and err.startswith("dravo: ")


def test_a_reader_that_has_seen_enough_ends_a_command_quietly(running: Running, fresh: Fresh) -> None:
    provider, mark = running.provider(fresh("source")), fresh("pipe")
    for number in range(40):
        provider.user(f"{mark}.{number}", displayName="A name that makes a long line " * 20)
    process = started(running, "user", "list", mark, "--json")
    assert process.stdout is not None and process.stderr is not None
    process.stdout.close()
    assert process.stderr.read() == ""
    assert process.wait(60) == 0


def test_an_interrupted_command_ends_with_130_and_no_traceback(running: Running) -> None:
    asked: list[str] = []
    release: list[bool] = []

    def slow(call: Any) -> Answer:
        asked.append(call.path)
        eventually(lambda: bool(release))
        return Answer(200, {})

    server = make_server("127.0.0.1", 0, slow)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    process = started(running, "--url", f"http://127.0.0.1:{server.server_address[1]}", "overview")
    try:
        eventually(lambda: bool(asked))
        process.send_signal(signal.SIGINT)
        _, err = process.communicate(timeout=60)
    finally:
        release.append(True)
        server.shutdown()
        server.server_close()
    assert process.returncode == 130
    assert "Traceback" not in err
