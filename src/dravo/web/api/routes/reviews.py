"""Access reviews, decided row by row and kept as evidence, and access requests of users."""

from __future__ import annotations

from flask import Response

from dravo.services.access.matrix import View
from dravo.services.access.requests import decisions as request_decisions
from dravo.services.access.requests.decisions import AccessRequest, Approval
from dravo.services.access.reviews import decisions as review_decisions
from dravo.services.access.reviews import export as review_export
from dravo.services.access.reviews import reviews as access_reviews
from dravo.services.access.reviews.decisions import ReviewDecision
from dravo.services.access.reviews.reviews import Review, ReviewRow
from dravo.services.changes.preview import Preview
from dravo.store.access.requests import RequestFilter
from dravo.store.access.reviews import ReviewRowFilter
from dravo.store.pagination import Page
from dravo.web.api.auth import (
    ACCESS_REQUEST,
    ALL,
    BODY,
    QUERY,
    api_blueprint,
    app_context,
    caller,
    needs,
    page_request,
)
from dravo.web.api.downloads import file_response
from dravo.web.api.openapi import responses
from dravo.web.api.routes.assignments import sure_of
from dravo.web.api.schemas.access.requests import AccessRequestsQuery, ApproveRequest, RefuseRequest
from dravo.web.api.schemas.access.reviews import (
    DecisionRequest,
    ReviewExportQuery,
    ReviewRequest,
    ReviewRowsQuery,
    RowsRequest,
)
from dravo.web.api.schemas.common import IdPath, PageQuery

routes = api_blueprint("reviews")


@routes.get("/reviews", responses=responses("access.reviews.PageOfReviews"))
@needs("access.read", of=ALL)
def list_reviews(query: PageQuery) -> Page[Review]:
    """List access reviews.

    Reviews with their progress, newest first.
    """
    return access_reviews.list_reviews(app_context(), caller(), page_request(query))


@routes.post("/reviews", responses=responses("access.reviews.Review", 201))
@needs("reviews.change")
def begin_review(body: ReviewRequest) -> tuple[Review, int]:
    """Create an access review.

    The rows are the access at this moment. The due date must be in the future.
    """
    view = View(body.words, body.application, body.role, body.only)
    return access_reviews.start(app_context(), caller(), body.label, body.until, view, body.note), 201


@routes.get("/reviews/<id>", responses=responses("access.reviews.Review"))
@needs("access.read", of=ALL)
def get_review(path: IdPath) -> Review:
    """Get an access review.

    Returns the progress for each application.
    """
    return access_reviews.one(app_context(), caller(), path.id)


@routes.get("/reviews/<id>/rows", responses=responses("access.reviews.PageOfReviewRows"))
@needs("access.read", of=QUERY)
def list_review_rows(path: IdPath, query: ReviewRowsQuery) -> Page[ReviewRow]:
    """List rows of a review.

    Rows by application and name.
    """
    only = ReviewRowFilter(query.application, query.decision, query.q)
    return access_reviews.rows(app_context(), path.id, page_request(query), only)


@routes.post("/reviews/<id>/preview", responses=responses("access.assignments.Preview"))
@needs("access.read", of=BODY)
def preview_taking_away(path: IdPath, body: RowsRequest) -> Preview:
    """Preview a removal in a review.

    Returns the users who would lose or change roles. Changes nothing.
    """
    return review_decisions.preview(app_context(), path.id, body.application, body.rows)


@routes.post("/reviews/<id>/decide", responses=responses("access.reviews.Review"))
@needs("assignments.change", of=BODY)
def decide(path: IdPath, body: DecisionRequest) -> Review:
    """Decide rows of a review.

    Confirms or removes access in rows of one application. Owners decide their own applications.
    """
    return review_decisions.decide(
        app_context(),
        caller(),
        path.id,
        ReviewDecision(body.application, body.rows, body.decision, note=body.note),
        sure_of(body),
    )


@routes.post("/reviews/<id>/close", responses=responses("access.reviews.Review"))
@needs("reviews.change")
def close_review(path: IdPath) -> Review:
    """End an access review.

    Open rows stay undecided.
    """
    return access_reviews.close(app_context(), caller(), path.id)


@routes.get("/reviews/<id>/export", responses={200: None})
@needs("access.read")
def export_review(path: IdPath, query: ReviewExportQuery) -> Response:
    """Export an access review.

    Streams all rows as CSV or JSON.
    """
    return file_response(review_export.export(app_context(), path.id, query.form), "review", query.form)


# Access requests


@routes.get("/access/requests", responses=responses("access.requests.PageOfAccessRequests"))
@needs("access.read", of=ALL)
def list_access_requests(query: AccessRequestsQuery) -> Page[AccessRequest]:
    """List access requests.

    Newest first. Application owners see the requests for their applications.
    """
    only = RequestFilter(query.status, query.application, query.q)
    return request_decisions.list_requests(app_context(), caller(), page_request(query), only)


@routes.get("/access/requests/<id>", responses=responses("access.requests.AccessRequestLine"))
@needs("access.read", of=ACCESS_REQUEST)
def get_access_request(path: IdPath) -> AccessRequest:
    """Get an access request.

    Returns the request with its decision.
    """
    return request_decisions.one(app_context(), path.id)


@routes.post("/access/requests/<id>/approve/preview", responses=responses("access.assignments.Preview"))
@needs("access.read", of=ACCESS_REQUEST)
def preview_approval(path: IdPath, body: ApproveRequest) -> Preview:
    """Preview the approval of a request.

    Returns who would gain or change roles. Changes nothing.
    """
    return request_decisions.preview(app_context(), path.id, _approval(body))


@routes.post("/access/requests/<id>/approve", responses=responses("access.requests.AccessRequestLine"))
@needs("assignments.change", of=ACCESS_REQUEST)
def approve_access_request(path: IdPath, body: ApproveRequest) -> AccessRequest:
    """Approve an access request.

    Creates an assignment and sends an email to the user. The highest role may require `confirm`.
    """
    return request_decisions.approve(app_context(), caller(), path.id, _approval(body), sure_of(body))


@routes.post("/access/requests/<id>/refuse", responses=responses("access.requests.AccessRequestLine"))
@needs("assignments.change", of=ACCESS_REQUEST)
def refuse_access_request(path: IdPath, body: RefuseRequest) -> AccessRequest:
    """Refuse an access request.

    The user sees the reason and gets an email.
    """
    return request_decisions.refuse(app_context(), caller(), path.id, body.answer)


def _approval(body: ApproveRequest) -> Approval:
    return Approval(role=body.role, until=body.until, answer=body.answer)
