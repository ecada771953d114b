"""The baseline of B1: a bare Flask route on the same server with one INSERT and commit, and the SQLite
settings of the service.
"""

from __future__ import annotations

import os
import sqlite3
import sys
import threading
import uuid

import orjson
import waitress
from flask import Flask, Response, request

from dravo.web.process import WEB_THREADS


def main(path: str, port: int) -> None:
    """Serve until killed."""
    app = Flask("bare")
    local = threading.local()
    writer = threading.Lock()

    def connection() -> sqlite3.Connection:
        if not hasattr(local, "connection"):
            local.connection = sqlite3.connect(path, timeout=20, isolation_level=None)
            for pragma in ("journal_mode=WAL", "synchronous=FULL", "foreign_keys=ON"):
                local.connection.execute(f"PRAGMA {pragma}")
        kept: sqlite3.Connection = local.connection
        return kept

    connection().execute("CREATE TABLE IF NOT EXISTS record (id TEXT PRIMARY KEY, body TEXT)")

    @app.route("/Users", methods=["POST"])
    @app.route("/Users/<identifier>", methods=["PATCH"])
    def store(identifier: str | None = None) -> Response:
        body = orjson.loads(request.get_data())
        key = str(uuid.uuid4())
        with writer:
            connection().execute("BEGIN IMMEDIATE")
            connection().execute("INSERT INTO record VALUES (?, ?)", (key, orjson.dumps(body).decode()))
            connection().execute("COMMIT")
        return Response(orjson.dumps({"id": key, **body}), 201, content_type="application/scim+json")

    threading.Thread(target=lambda: (sys.stdin.buffer.read(), os._exit(0)), daemon=True).start()
    waitress.serve(app, host="127.0.0.1", port=port, threads=WEB_THREADS)


if __name__ == "__main__":
    main(sys.argv[1], int(sys.argv[2]))
