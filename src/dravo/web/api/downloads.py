"""Responses that stream an export as a file."""

from __future__ import annotations

from collections.abc import Iterator
from contextvars import copy_context

from flask import Response

from dravo.services.csv_export import Streamed


class _OfRequest(Iterator[bytes]):
    """Pieces that are computed as in the request, which has ended when the server reads them: what the caller
    may not see stays masked.
    """

    def __init__(self, pieces: Streamed) -> None:
        self._pieces, self._context = pieces, copy_context()

    def __next__(self) -> bytes:
        return self._context.run(next, self._pieces)


def file_response(pieces: Streamed, name: str, form: str) -> Response:
    """Return a response that sends an export piece by piece.

    Args:
        pieces: the export.
        name: the file's name without its ending.
        form: "csv" or "json".
    """
    kind = "text/csv" if form == "csv" else "application/json"
    headers = {"Content-Disposition": f"attachment; filename={name}.{form}"}
    response = Response(_OfRequest(pieces), mimetype=kind, headers=headers)
    # A HEAD request sends no piece, so only this releases the database connection.
    response.call_on_close(pieces.close)
    return response


def png_response(image: bytes, *, cached: bool) -> Response:
    """Return an image as a response.

    Args:
        image: the PNG.
        cached: whether the URL names the version, so that browsers can keep the image.
    """
    response = Response(image, mimetype="image/png")
    response.headers["Cache-Control"] = "private, max-age=86400" if cached else "no-store"
    return response
