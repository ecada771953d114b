"""Access reviews: begun by administrators, decided row by row by whoever owns the application, kept as evidence."""

from __future__ import annotations

from typing import Any

from flask import Response

from dravo.services.access import review_export
from dravo.services.access import reviews as access_reviews
from dravo.services.access.matrix import View
from dravo.web.api.auth import ALL, BODY, QUERY, ask, caller, house, needs, room
from dravo.web.api.downloads import file_response
from dravo.web.api.openapi import answers
from dravo.web.api.routes.assignments import sure_of
from dravo.web.api.schemas.common import IdPath, PageQuery
from dravo.web.api.schemas.reviews import DecisionRequest, ReviewExportQuery, ReviewRequest, ReviewRowsQuery, RowsRequest

rooms = room("reviews")


@rooms.get("/reviews", responses=answers("reviews.PageOfReviews"))
@needs("access.read", of=ALL)
def list_reviews(query: PageQuery) -> dict[str, Any]:
    """Reviews, newest first, each with how far it is."""
    return access_reviews.listing(house(), caller(), ask(query))


@rooms.post("/reviews", responses=answers("reviews.Review", 201))
@needs("reviews.change")
def begin_review(body: ReviewRequest) -> tuple[dict[str, Any], int]:
    """Begin a review of a part of the matrix, as it is now."""
    view = View(body.words, body.application, body.role, body.only)
    return access_reviews.start(house(), caller(), body.label, body.until, view, body.note), 201


@rooms.get("/reviews/<id>", responses=answers("reviews.Review"))
@needs("access.read", of=ALL)
def get_review(path: IdPath) -> dict[str, Any]:
    """One review."""
    return access_reviews.one(house(), caller(), path.id)


@rooms.get("/reviews/<id>/rows", responses=answers("reviews.PageOfReviewRows"))
@needs("access.read", of=QUERY)
def list_review_rows(path: IdPath, query: ReviewRowsQuery) -> dict[str, Any]:
    """The rows of a review, by application and name."""
    return access_reviews.rows(house(), path.id, ask(query), query.application, query.decision, query.q)


@rooms.post("/reviews/<id>/preview", responses=answers("assignments.Preview"))
@needs("access.read", of=BODY)
def preview_taking_away(path: IdPath, body: RowsRequest) -> dict[str, Any]:
    """What taking some rows away would do; nothing is changed."""
    return access_reviews.preview(house(), path.id, body.application, body.rows)


@rooms.post("/reviews/<id>/decide", responses=answers("reviews.Review"))
@needs("assignments.change", of=BODY)
def decide(path: IdPath, body: DecisionRequest) -> dict[str, Any]:
    """Confirm some rows of one application, or take what they say away."""
    return access_reviews.decide(house(), caller(), path.id, body.application, body.rows, body.decision, body.note, sure_of(body))


@rooms.post("/reviews/<id>/close", responses=answers("reviews.Review"))
@needs("reviews.change")
def close_review(path: IdPath) -> dict[str, Any]:
    """End a review before its last day; what is not decided stays undecided."""
    return access_reviews.close(house(), caller(), path.id)


@rooms.get("/reviews/<id>/export", responses={200: None})
@needs("access.read")
def export_review(path: IdPath, query: ReviewExportQuery) -> Response:
    """A review with all its rows as CSV or JSON, streamed: the evidence."""
    return file_response(review_export.export(house(), path.id, query.form), "review", query.form)
