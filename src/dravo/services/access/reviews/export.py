"""Exports an access review as CSV."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import orjson

from dravo.services.access.reviews.reviews import review_row, row_line
from dravo.services.changes.recompute import USERS_PER_CHUNK
from dravo.services.context import AppContext
from dravo.services.csv_export import Streamed, csv_line
from dravo.store.access import reviews as stored


def export(ctx: AppContext, review_id: str, form: str) -> Streamed:
    """Return a review with all its rows as CSV or JSON: the evidence.

    Raises:
        NotFound: before the first piece.
    """
    connection = ctx.database.apart()
    try:
        review = review_row(connection, review_id)
        found = stored.every_row(connection, review_id, USERS_PER_CHUNK)
    except BaseException:
        connection.close()
        raise
    return Streamed(connection, found, _exported(review, found, form))


_CELLS = (
    "application",
    "role",
    "user",
    "user name",
    "since",
    "reason",
    "decision",
    "by",
    "at",
    "note",
    "outcome",
)


def _exported(review: Any, found: Any, form: str) -> Iterator[bytes]:
    if form == "csv":
        yield csv_line(_CELLS)
    else:
        head = {
            name: getattr(review, name)
            for name in ("id", "label", "created_at", "created_by", "until_day", "closed_at", "closed_by")
        }
        yield orjson.dumps(head)[:-1] + b',"rows":[\n'
    for number, row in enumerate(stored.rows_of_cursor(found)):
        line = row_line(row)
        if form != "csv":
            yield (b",\n" if number else b"") + orjson.dumps(line)
            continue
        yield csv_line(
            str(each or "")
            for each in (
                line.application.label,
                line.role.label,
                line.user.display_name,
                line.user.user_name,
                line.since,
                "; ".join(line.reasons),
                line.decision,
                line.decided_by,
                line.decided_at,
                line.note,
                line.outcome,
            )
        )
    if form != "csv":
        yield b"\n]}\n"
