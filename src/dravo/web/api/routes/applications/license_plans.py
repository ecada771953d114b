"""The plans of applications, and who has a seat or waits for one."""

from __future__ import annotations

from dravo.services.access import license_plans
from dravo.services.access.license_plans import SeatLine
from dravo.services.applications import applications
from dravo.services.applications.applications import ApplicationDetail
from dravo.services.changes.effects import PreviewedEffects
from dravo.store.pagination import Page
from dravo.web.api.auth import PATH, api_blueprint, app_context, caller, needs, page_request
from dravo.web.api.openapi import responses
from dravo.web.api.schemas.applications.license_plans import (
    ChangeLicensePlanRequest,
    CreateLicensePlanRequest,
    PlanPath,
    SeatsQuery,
)
from dravo.web.api.schemas.common import KeyPath

routes = api_blueprint("plans")


@routes.post(
    "/applications/<key>/license-plans", responses=responses("applications.applications.Application", 201)
)
@needs("applications.change")
def add_plan(path: KeyPath, body: CreateLicensePlanRequest) -> tuple[ApplicationDetail, int]:
    """Create a license plan.

    The key and the value sent to the application must be unique in the application.
    """
    plan = license_plans.NewLicensePlan(**body.model_dump())
    license_plans.add(app_context(), caller(), path.key, plan)
    return applications.one(app_context(), path.key), 201


@routes.patch(
    "/applications/<key>/license-plans/<plan>", responses=responses("applications.applications.Application")
)
@needs("applications.change")
def change_plan(path: PlanPath, body: ChangeLicensePlanRequest) -> ApplicationDetail:
    """Change a license plan.

    Users keep their seats if the number of seats is reduced.
    """
    license_plans.change(app_context(), caller(), path.key, path.plan, body.model_dump())
    return applications.one(app_context(), path.key)


@routes.post(
    "/applications/<key>/license-plans/<plan>/preview",
    responses=responses("access.assignments.ChangeEffects"),
)
@needs("access.read", of=PATH)
def preview_plan(path: PlanPath, body: ChangeLicensePlanRequest) -> PreviewedEffects:
    """Preview a changed license plan.

    Returns the effects on seats and users. Changes nothing.
    """
    return license_plans.preview_change(app_context(), path.key, path.plan, body.model_dump()).shown()


@routes.delete(
    "/applications/<key>/license-plans/<plan>", responses=responses("applications.applications.Application")
)
@needs("applications.change")
def remove_plan(path: PlanPath) -> ApplicationDetail:
    """Delete a license plan.

    The plan must never have been assigned.
    """
    license_plans.remove(app_context(), caller(), path.key, path.plan)
    return applications.one(app_context(), path.key)


@routes.get("/applications/<key>/seats", responses=responses("applications.license_plans.PageOfSeats"))
@needs("access.read", of=PATH)
def list_seats(path: KeyPath, query: SeatsQuery) -> Page[SeatLine]:
    """List seats.

    Users with a seat by name, or the waiting list in its order.
    """
    return license_plans.seats(
        app_context(), path.key, page_request(query), query.plan, waiting=query.waiting
    )
