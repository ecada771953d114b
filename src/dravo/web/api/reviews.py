"""Access reviews: begun by administrators, decided row by row by whoever owns the application, kept as evidence."""

from __future__ import annotations

from typing import Any

from flask import Response

from dravo.services import reviewing
from dravo.services.matrix import View
from dravo.web.api import asked as q
from dravo.web.api import asked_reviews as rq
from dravo.web.api.assignments import sure_of
from dravo.web.api.describing import answers
from dravo.web.api.door import ALL, BODY, QUERY, ask, caller, house, needs, room
from dravo.web.api.downloads import file_response

rooms = room("reviews")


@rooms.get("/reviews", responses=answers("review_models.PageOfReviews"))
@needs("access.read", of=ALL)
def list_reviews(query: q.PageQuery) -> dict[str, Any]:
    """Reviews, newest first, each with how far it is."""
    return reviewing.listing(house(), caller(), ask(query))


@rooms.post("/reviews", responses=answers("review_models.Review", 201))
@needs("reviews.change")
def begin_review(body: rq.ReviewBody) -> tuple[dict[str, Any], int]:
    """Begin a review of a part of the matrix, as it is now."""
    view = View(body.words, body.application, body.role, body.only)
    return reviewing.start(house(), caller(), body.label, body.until, view, body.note), 201


@rooms.get("/reviews/<id>", responses=answers("review_models.Review"))
@needs("access.read", of=ALL)
def get_review(path: q.IdPath) -> dict[str, Any]:
    """One review."""
    return reviewing.one(house(), caller(), path.id)


@rooms.get("/reviews/<id>/rows", responses=answers("review_models.PageOfReviewRows"))
@needs("access.read", of=QUERY)
def list_review_rows(path: q.IdPath, query: rq.ReviewRowsQuery) -> dict[str, Any]:
    """The rows of a review, by application and name."""
    return reviewing.rows(house(), path.id, ask(query), query.application, query.decision, query.q)


@rooms.post("/reviews/<id>/preview", responses=answers("access_models.Preview"))
@needs("access.read", of=BODY)
def preview_taking_away(path: q.IdPath, body: rq.RowsBody) -> dict[str, Any]:
    """What taking some rows away would do; nothing is changed."""
    return reviewing.preview(house(), path.id, body.application, body.rows)


@rooms.post("/reviews/<id>/decide", responses=answers("review_models.Review"))
@needs("assignments.change", of=BODY)
def decide(path: q.IdPath, body: rq.DecisionBody) -> dict[str, Any]:
    """Confirm some rows of one application, or take what they say away."""
    return reviewing.decide(house(), caller(), path.id, body.application, body.rows, body.decision, body.note, sure_of(body))


@rooms.post("/reviews/<id>/close", responses=answers("review_models.Review"))
@needs("reviews.change")
def close_review(path: q.IdPath) -> dict[str, Any]:
    """End a review before its last day; what is not decided stays undecided."""
    return reviewing.close(house(), caller(), path.id)


@rooms.get("/reviews/<id>/export", responses={200: None})
@needs("access.read")
def export_review(path: q.IdPath, query: rq.ReviewExportQuery) -> Response:
    """A review with all its rows as CSV or JSON, streamed: the evidence."""
    return file_response(reviewing.export(house(), path.id, query.form), "review", query.form)
