"""Responses that stream an export as a file."""

from __future__ import annotations

from flask import Response, stream_with_context

from dravo.services.csv_export import Streamed


def file_response(pieces: Streamed, name: str, form: str) -> Response:
    """Return a response that sends an export piece by piece.

    Args:
        pieces: the export.
        name: the file's name without its ending.
        form: "csv" or "json".
    """
    kind = "text/csv" if form == "csv" else "application/json"
    headers = {"Content-Disposition": f"attachment; filename={name}.{form}"}
    response = Response(stream_with_context(pieces), mimetype=kind, headers=headers)
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
