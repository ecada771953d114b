"""Erases users, and lists who was erased."""

from __future__ import annotations

from dravo.services.changes.effects import PreviewedEffects
from dravo.services.ingest import erasure
from dravo.services.ingest.erasure import ErasedUser
from dravo.store.pagination import Page
from dravo.store.users.erasure import Erasure
from dravo.web.api.auth import api_blueprint, app_context, caller, needs, page_request
from dravo.web.api.openapi import responses
from dravo.web.api.schemas.common import PageQuery
from dravo.web.api.schemas.users import EraseUserRequest, ErasurePath, UserPath

routes = api_blueprint("erasure")


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
