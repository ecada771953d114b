"""The matrix of people against applications, at any instant; what changed between two; and what somebody would have."""

from __future__ import annotations

from typing import Any

from flask import Response

from dravo.services import comparing, expecting, masking, matrix
from dravo.services.matrix import View
from dravo.web.api import asked as q
from dravo.web.api.describing import answers
from dravo.web.api.door import QUERY, ask, caller, house, needs, room
from dravo.web.api.downloads import file_response
from dravo.web.api.moments import instant_of

rooms = room("matrix")


@rooms.get("/matrix", responses=answers("access_models.Matrix"))
@needs("access.read", of=QUERY)
def show_matrix(query: q.MatrixQuery) -> dict[str, Any]:
    """People against applications, now or at a past instant."""
    found = matrix.people(house(), view_of(query), ask(query))
    return {**found, "items": masking.for_caller(caller(), found["items"])}


@rooms.get("/matrix/groups", responses=answers("access_models.MatrixOfGroups"))
@needs("access.read", of=QUERY)
def show_groups(query: q.MatrixGroupsQuery) -> dict[str, Any]:
    """Groups that give something against applications."""
    return matrix.groups(house(), ask(query), query.q, query.source, query.application)


@rooms.get("/access/compare", responses=answers("access_models.Compared"))
@needs("access.read")
def compare_people(query: q.CompareQuery) -> dict[str, Any]:
    """Two people side by side: what each has where and why, and their groups."""
    found = comparing.compare(house(), query.one, query.two)
    return {**found, "people": masking.for_caller(caller(), found["people"])}


@rooms.get("/matrix/export", responses={200: None})
@needs("access.read", of=QUERY)
def export_matrix(query: q.ExportQuery) -> Response:
    """The whole matrix as CSV or JSON, streamed."""
    who = caller()
    pieces = matrix.export(house(), view_of(query), query.form, lambda items: masking.for_caller(who, items))
    return file_response(pieces, "access", query.form)


@rooms.get("/matrix/changes", responses=answers("access_models.PageOfMoves"))
@needs("access.read", of=QUERY)
def show_changes(query: q.MovesQuery) -> dict[str, Any]:
    """Who has other roles at one instant than at an earlier one, and by what."""
    since, until = instant_of(query.since, "since"), instant_of(query.until, "until")
    return matrix.changes(house(), query.application, since, until, ask(query))


@rooms.post("/access/expected", responses=answers("access_models.Expected"))
@needs("access.read")
def show_expected(body: q.ExpectedBody) -> dict[str, Any]:
    """Which roles somebody would get who does not exist yet; nothing is changed."""
    return expecting.expect(house(), body.source, body.attributes, body.groups)


def view_of(query: q.MatrixQuery) -> View:
    """Return what of the matrix is asked for."""
    at = instant_of(query.at, "at") if query.at else None
    return View(query.q, query.application, query.role, query.only, at)
