"""The plans of applications, and who has a seat or waits for one."""

from __future__ import annotations

from typing import Any

from dravo.services import applications, plans
from dravo.web.api import asked as q
from dravo.web.api import asked_plans as pq
from dravo.web.api.describing import answers
from dravo.web.api.door import PATH, ask, caller, house, needs, room

rooms = room("plans")


@rooms.post("/applications/<key>/plans", responses=answers("application_models.Application", 201))
@needs("applications.change")
def add_plan(path: q.KeyPath, body: pq.PlanBody) -> tuple[dict[str, Any], int]:
    """Add a plan, with its seats."""
    plans.add(house(), caller(), path.key, body.key, body.label, body.rank, body.seats)
    return applications.one(house(), path.key), 201


@rooms.patch("/applications/<key>/plans/<plan>", responses=answers("application_models.Application"))
@needs("applications.change")
def change_plan(path: pq.PlanPath, body: pq.PlanChange) -> dict[str, Any]:
    """Change a plan's label, rank or number of seats; nobody loses a seat by it."""
    plans.change(house(), caller(), path.key, path.plan, body.model_dump())
    return applications.one(house(), path.key)


@rooms.delete("/applications/<key>/plans/<plan>", responses=answers("application_models.Application"))
@needs("applications.change")
def remove_plan(path: pq.PlanPath) -> dict[str, Any]:
    """Remove a plan that was never given."""
    plans.remove(house(), caller(), path.key, path.plan)
    return applications.one(house(), path.key)


@rooms.get("/applications/<key>/seats", responses=answers("application_models.PageOfSeats"))
@needs("access.read", of=PATH)
def list_seats(path: q.KeyPath, query: pq.SeatsQuery) -> dict[str, Any]:
    """Who has a seat, by name; or who waits for one, in the order of the line."""
    return plans.seats(house(), path.key, ask(query), query.plan, waiting=query.waiting)
