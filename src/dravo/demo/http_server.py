"""A small HTTP server for the stand-ins, which can also cut off a response after the work is done."""

from __future__ import annotations

import argparse
import json
import os
import socket
import threading
from collections.abc import Callable
from dataclasses import dataclass, field
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any
from urllib.parse import parse_qs, unquote, urlsplit


@dataclass
class Call:
    """One request."""

    method: str
    path: str
    query: dict[str, str]
    headers: Any
    body: Any = None
    content: bytes = b""

    @property
    def form(self) -> dict[str, str]:
        """The fields of a form that was posted."""
        return {
            name: values[0]
            for name, values in parse_qs(
                self.content.decode("utf-8", "replace"), keep_blank_values=True
            ).items()
        }


@dataclass
class Answer:
    """One reply; `cut` closes the connection without sending it."""

    status: int = 200
    body: Any = None
    kind: str = "application/scim+json"
    headers: dict[str, str] = field(default_factory=dict)
    cut: bool = False


class Server(ThreadingHTTPServer):
    """A server with a thread for each connection, and room for many at once."""

    daemon_threads = True
    request_queue_size = 256


def stand_in_arguments(description: str) -> argparse.ArgumentParser:
    """Return the arguments of every stand-in process."""
    parser = argparse.ArgumentParser(description=description)
    parser.add_argument("--name", required=True, help="name on the page")
    parser.add_argument("--port", type=int, required=True, help="port to listen on")
    parser.add_argument("--data-file", type=Path, required=True, help="file for the stored data")
    parser.add_argument(
        "--listening", type=int, help="file descriptor of a socket that already listens on the port"
    )
    return parser


def make_server(
    host: str, port: int, handle: Callable[[Call], Answer], *, listening: int | None = None
) -> ThreadingHTTPServer:
    """Return a server on loopback that gives every request to one function.

    Args:
        listening: the file descriptor of a listening socket; None to open one.
    """

    class Handler(BaseHTTPRequestHandler):
        protocol_version = "HTTP/1.1"
        disable_nagle_algorithm = True

        def answer(self) -> None:
            parts = urlsplit(self.path)
            length = int(self.headers.get("Content-Length") or 0)
            content = self.rfile.read(length) if length else b""
            try:
                body = json.loads(content) if content else None
            except ValueError:
                body = None
            query = {
                name: values[0] for name, values in parse_qs(parts.query, keep_blank_values=True).items()
            }
            reply = handle(Call(self.command, unquote(parts.path), query, self.headers, body, content))
            if reply.cut:
                self.close_connection = True
                self.connection.close()
                return
            text = (
                reply.body
                if isinstance(reply.body, str)
                else ""
                if reply.body is None
                else json.dumps(reply.body)
            )
            payload = text.encode()
            self.send_response(reply.status)
            if payload or reply.status != 204:
                self.send_header("Content-Type", reply.kind)
                self.send_header("Content-Length", str(len(payload)))
            for name, value in reply.headers.items():
                self.send_header(name, value)
            self.end_headers()
            self.wfile.write(payload)

        do_GET = do_POST = do_PUT = do_PATCH = do_DELETE = answer

        def log_message(self, *_: Any) -> None:
            """Log nothing; the page of the stand-in shows its requests."""

        def handle_one_request(self) -> None:
            try:
                super().handle_one_request()
            except (ConnectionError, ValueError, OSError):
                self.close_connection = True

    server = Server((host, port), Handler, bind_and_activate=listening is None)
    if listening is not None:
        server.socket.close()
        server.socket = socket.socket(fileno=listening)
        server.server_address = server.socket.getsockname()
        server.server_name, server.server_port = host, port
    return server


def end_with_parent() -> None:
    """End this process when its parent ends."""

    def wait() -> None:
        while os.read(0, 64):
            pass
        os._exit(0)

    threading.Thread(target=wait, daemon=True).start()


def page(title: str, parts: list[str]) -> Answer:
    """Return a plain page for users."""
    style = "body{font:16px sans-serif;margin:2rem;max-width:70rem} table{border-collapse:collapse}"
    style += "td,th{padding:.2rem .8rem;text-align:left;border-bottom:1px solid #ccc;vertical-align:top}"
    style += "pre{margin:0;white-space:pre-wrap;overflow-wrap:anywhere}"
    text = (
        "<!doctype html><html lang=en><meta "
        f"charset=utf-8><title>{title}</title><style>{style}</style><h1>{title}</h1>{''.join(parts)}</html>"
    )
    return Answer(200, text, "text/html; charset=utf-8")
