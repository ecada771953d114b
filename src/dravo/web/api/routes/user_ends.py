"""The end of users: marked as inactive or left, whatever their sources report, and erased."""

from __future__ import annotations

from dravo.services.changes.effects import PreviewedEffects
from dravo.services.changes.preview import Preview
from dravo.services.ingest import erasure, user_marks
from dravo.services.ingest.erasure import ErasedUser
from dravo.services.ingest.user_marks import MarkRequest, MarkResult
from dravo.services.security import masking
from dravo.store.pagination import Page
from dravo.store.users import user_marks as stored
from dravo.store.users.erasure import Erasure
from dravo.store.users.user_marks import MarkedUser
from dravo.web.api.auth import api_blueprint, app_context, caller, needs, page_request
from dravo.web.api.openapi import responses
from dravo.web.api.routes.assignments import sure_of
from dravo.web.api.schemas.common import PageQuery, SearchQuery
from dravo.web.api.schemas.users import (
    EraseUserRequest,
    ErasurePath,
    MarkUsersRequest,
    UnmarkUsersRequest,
    UserPath,
)

routes = api_blueprint("user_ends")


@routes.get("/user-marks", responses=responses("users.PageOfMarkedUsers"))
@needs("users.read")
def list_marks(query: SearchQuery) -> Page[MarkedUser]:
    """List marked users.

    Users by name, also those whose mark applies later.
    """
    with app_context().database.reading() as connection:
        return stored.marked_users(connection, page_request(query), query.q, emails=not masking.hidden())


@routes.post("/user-marks", responses=responses("users.MarkResult", 201))
@needs("users.change")
def mark_users(body: MarkUsersRequest) -> tuple[MarkResult, int]:
    """Mark users as inactive or left.

    The mark wins over all sources until an operator removes it; an earlier mark is replaced. Large changes
    require `confirm`.
    """
    return user_marks.change(app_context(), caller(), _request_of(body), sure_of(body)), 201


@routes.post("/user-marks/preview", responses=responses("access.assignments.Preview"))
@needs("attributes.read")
def preview_marks(body: MarkUsersRequest) -> Preview:
    """Preview marked users.

    Returns the roles that end once the mark applies. Changes nothing.
    """
    return user_marks.preview(app_context(), _request_of(body))


@routes.post("/user-marks/remove", responses=responses("users.MarkResult"))
@needs("users.change")
def unmark_users(body: UnmarkUsersRequest) -> MarkResult:
    """Remove marks of users.

    The status then follows the sources again. Users without a mark are refused.
    """
    return user_marks.change(app_context(), caller(), MarkRequest(body.users, None), sure_of(body))


@routes.post("/user-marks/remove/preview", responses=responses("access.assignments.Preview"))
@needs("attributes.read")
def preview_unmarking(body: UnmarkUsersRequest) -> Preview:
    """Preview removed marks.

    Returns the roles that users get back. Changes nothing.
    """
    return user_marks.preview(app_context(), MarkRequest(body.users, None))


def _request_of(body: MarkUsersRequest) -> MarkRequest:
    return MarkRequest(body.users, body.status, body.from_, body.note)


@routes.post("/users/<user>/erase", responses=responses("users.ErasedUser"))
@needs("users.change")
def erase_user(path: UserPath, body: EraseUserRequest) -> ErasedUser:
    """Erase a user who has left.

    Deletes the records, memberships, accounts, traces and names. Sources cannot bring the user back. Requires
    the name of the user in `confirm`.
    """
    return erasure.erase(app_context(), caller(), path.user, body.confirm)


@routes.post("/users/<user>/erase/preview", responses=responses("access.assignments.ChangeEffects"))
@needs("users.read")
def preview_erasing(path: UserPath) -> PreviewedEffects:
    """Preview an erased user.

    Returns what would be deleted, and what stays. Changes nothing.
    """
    return erasure.preview(app_context(), path.user).shown()


@routes.get("/erased-users", responses=responses("users.PageOfErasures"))
@needs("users.read")
def list_erased(query: PageQuery) -> Page[Erasure]:
    """List erased users.

    Without names: who erased which user, and when. Newest first.
    """
    return erasure.list_erasures(app_context(), page_request(query))


@routes.post("/erased-users/<id>/accept", responses=responses("users.Erasure"))
@needs("users.change")
def accept_erased(path: ErasurePath) -> Erasure:
    """Accept an erased user again.

    A source that reports the user then creates a new one.
    """
    return erasure.accept(app_context(), caller(), path.id)
