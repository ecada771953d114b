"""Runs `dravo` in this process, as a user would on the command line: arguments in; exit code, output and
errors out.
"""

from __future__ import annotations

import contextlib
import io
import os
import sys
from dataclasses import dataclass
from unittest import mock

from dravo.cli import main
from tests.harness import Running


@dataclass(frozen=True)
class Completed:
    """A command that ended."""

    returncode: int
    stdout: str
    stderr: str


def dravo(running: Running, *arguments: str, token: str | None = None, stdin: str = "") -> Completed:
    """Run a command against a running service; a token of its own replaces that of the tests."""
    environment = {"DRAVO_URL": running.url, "DRAVO_TOKEN": token or running.api_token, "COLUMNS": "1000"}
    return run(environment, *arguments, stdin=stdin)


def run(environment: dict[str, str], *arguments: str, stdin: str = "") -> Completed:
    """Run a command with variables of the environment, and without those that would name another service."""
    out, err = (io.TextIOWrapper(io.BytesIO(), encoding="utf-8", write_through=True) for _ in range(2))
    kept = {name: value for name, value in os.environ.items() if not name.startswith("DRAVO_")}
    code = 0
    with (
        mock.patch.dict(os.environ, {**kept, **environment}, clear=True),
        mock.patch.object(sys, "stdin", io.TextIOWrapper(io.BytesIO(stdin.encode()), encoding="utf-8")),
        contextlib.redirect_stdout(out),
        contextlib.redirect_stderr(err),
    ):
        try:
            main.main(arguments)
        except SystemExit as ended:
            # As Python does at the end of a process: a text is an error message.
            code = ended.code if isinstance(ended.code, int) else int(ended.code is not None)
            if isinstance(ended.code, str):
                print(ended.code, file=err)
    return Completed(code, _text(out), _text(err))


def _text(stream: io.TextIOWrapper) -> str:
    stream.flush()
    content = stream.buffer
    assert isinstance(content, io.BytesIO)
    return content.getvalue().decode()
