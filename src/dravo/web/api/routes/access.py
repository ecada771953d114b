"""The matrix of users against applications, at any instant; what changed between two; and what a user
would have.
"""

from __future__ import annotations

from dataclasses import replace

from flask import Response

from dravo.services.access import comparison as access_comparison
from dravo.services.access import matrix as access_matrix
from dravo.services.access import simulation as access_simulation
from dravo.services.access.comparison import AccessDifference, Comparison
from dravo.services.access.matrix import Matrix, MatrixOfGroups, View
from dravo.services.access.simulation import SimulatedAccess
from dravo.services.security import masking
from dravo.store.pagination import Page
from dravo.web.api.auth import QUERY, api_blueprint, app_context, caller, needs, page_request
from dravo.web.api.dates import instant_of
from dravo.web.api.downloads import file_response
from dravo.web.api.openapi import responses
from dravo.web.api.schemas.access.matrix import (
    AccessDifferencesQuery,
    CompareQuery,
    ExportQuery,
    MatrixGroupsQuery,
    MatrixQuery,
    SimulateRequest,
)

routes = api_blueprint("matrix")


@routes.get("/access/matrix", responses=responses("access.matrix.Matrix"))
@needs("access.read", of=QUERY)
def show_matrix(query: MatrixQuery) -> Matrix:
    """Show users against applications.

    Shows the roles now or at a past time. The filters `only` and `role` narrow the users.
    """
    found = access_matrix.users(app_context(), view_of(query), page_request(query))
    return replace(found, items=masking.users(caller(), found.items))


@routes.get("/access/matrix/groups", responses=responses("access.matrix.MatrixOfGroups"))
@needs("access.read", of=QUERY)
def show_groups(query: MatrixGroupsQuery) -> MatrixOfGroups:
    """Show groups against applications.

    Shows only groups that assign roles.
    """
    return access_matrix.groups(app_context(), page_request(query), query.q, query.source, query.application)


@routes.get("/access/compare", responses=responses("access.matrix.Compared"))
@needs("access.read")
def compare_users(query: CompareQuery) -> Comparison:
    """Compare the access of two users.

    Lists the roles with their reasons, and the groups of both users.
    """
    found = access_comparison.compare(app_context(), query.one, query.two)
    return replace(found, users=masking.users(caller(), found.users))


@routes.get("/access/matrix/export", responses={200: None})
@needs("access.read", of=QUERY)
def export_matrix(query: ExportQuery) -> Response:
    """Export the access matrix.

    Streams the complete matrix as CSV or JSON.
    """
    who = caller()
    pieces = access_matrix.export(
        app_context(), view_of(query), query.form, lambda items: masking.users(who, items)
    )
    return file_response(pieces, "access", query.form)


@routes.get("/access/changes", responses=responses("access.matrix.PageOfAccessDifferences"))
@needs("access.read", of=QUERY)
def show_changes(query: AccessDifferencesQuery) -> Page[AccessDifference]:
    """List access changes between two times.

    Shows users whose roles differ at the two times. The first time must be before the second.
    """
    since, until = instant_of(query.since, "since"), instant_of(query.until, "until")
    return access_comparison.changes(app_context(), query.application, since, until, page_request(query))


@routes.post("/access/simulate", responses=responses("access.matrix.Expected"))
@needs("access.read")
def show_expected(body: SimulateRequest) -> SimulatedAccess:
    """Simulate the access of a hypothetical user.

    Evaluates assignments and policies for the given attributes and groups. Changes nothing.
    """
    return access_simulation.expect(app_context(), body.source, body.attributes, body.groups)


def view_of(query: MatrixQuery) -> View:
    """Return what of the matrix is asked for."""
    at = instant_of(query.at, "at") if query.at else None
    return View(query.q, query.application, query.role, query.only, at)
