"""Structured logs: one JSON object a line on standard error, the same for every process of the service."""

from __future__ import annotations

import contextlib
import logging
import sys
from typing import Any, TextIO, cast

import orjson
import structlog

LONGEST_LINE, LONGEST_VALUE = 16_000, 2_000
# Tracebacks without local variables, which can hold passwords, codes and tokens.
_tracebacks = structlog.processors.ExceptionRenderer(
    structlog.tracebacks.ExceptionDictTransformer(show_locals=False, max_frames=20)
)


def _line(entry: dict[str, Any], **_: Any) -> str:
    """Return an entry as a line that is never very long, whatever it is about."""
    line = orjson.dumps(entry, default=str).decode()
    if len(line) <= LONGEST_LINE:
        return line
    short = {
        name: value if len(text := str(value)) <= LONGEST_VALUE else f"{text[:LONGEST_VALUE]} ... (cut)"
        for name, value in entry.items()
    }
    return orjson.dumps(short, default=str).decode()[:LONGEST_LINE]


class _Unfailing:
    """A stream whose writing never fails: with a full disk nothing is logged, and everything else goes on."""

    def __init__(self, file: TextIO) -> None:
        self._file = file

    def write(self, text: str) -> int:
        """Write a text, if that can be."""
        with contextlib.suppress(OSError, ValueError):
            self._file.write(text)
        return len(text)

    def flush(self) -> None:
        """Flush, if possible."""
        with contextlib.suppress(OSError, ValueError):
            self._file.flush()


class _Lines(logging.StreamHandler[TextIO]):
    """Writes log lines of libraries in the form of all others."""


def configure(process: str, file: TextIO | None = None) -> None:
    """Log everything as JSON lines that name the process, also from threads and libraries.

    Args:
        process: "web", "worker" or "serve".
        file: the log file; None for standard error.
    """

    def named(_logger: Any, _method: str, entry: structlog.typing.EventDict) -> structlog.typing.EventDict:
        return {"process": process, **entry}

    stream = cast(TextIO, _Unfailing(file or sys.stderr))
    render = structlog.processors.JSONRenderer(serializer=_line)
    every: list[structlog.typing.Processor] = [
        structlog.contextvars.merge_contextvars,
        named,
        structlog.processors.add_log_level,
        structlog.processors.TimeStamper(fmt="iso", utc=True),
    ]
    structlog.configure(
        processors=[*every, _tracebacks, render],
        wrapper_class=structlog.make_filtering_bound_logger(logging.INFO),
        logger_factory=structlog.PrintLoggerFactory(file=stream),
    )
    lines = _Lines(stream)
    lines.setFormatter(
        structlog.stdlib.ProcessorFormatter(
            foreign_pre_chain=[structlog.stdlib.add_logger_name, *every],
            processors=[structlog.stdlib.ProcessorFormatter.remove_processors_meta, _tracebacks, render],
        )
    )
    root = logging.getLogger()
    root.handlers = [*(each for each in root.handlers if not isinstance(each, _Lines)), lines]
    for noisy in ("httpx", "httpcore", "alembic"):
        logging.getLogger(noisy).setLevel(logging.WARNING)
    # Requests that wait briefly for a thread are not logged.
    logging.getLogger("waitress.queue").setLevel(logging.ERROR)
