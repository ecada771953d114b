"""Reconciliations, and what is done about drift."""

from __future__ import annotations

from typing import Any

from dravo.services import found_accounts, reconciling
from dravo.web.api import asked as q
from dravo.web.api import asked_local as lq
from dravo.web.api.describing import answers
from dravo.web.api.door import ask, caller, house, needs, room

rooms = room("drift")


@rooms.post("/applications/<key>/runs", responses=answers("drift_models.Run", 201))
@needs("deliveries.change")
def begin_run(path: q.KeyPath) -> tuple[dict[str, Any], int]:
    """Compare an application with what should be there; the worker does it, and the run tells how far it is."""
    return reconciling.ask_for(house(), caller(), path.key), 201


@rooms.get("/applications/<key>/runs", responses=answers("drift_models.PageOfRuns"))
@needs("deliveries.read")
def list_runs(path: q.KeyPath, query: q.PageQuery) -> dict[str, Any]:
    """An application's reconciliations, newest first."""
    return reconciling.runs(house(), path.key, ask(query))


@rooms.get("/runs/<id>", responses=answers("drift_models.Run"))
@needs("deliveries.read")
def get_run(path: q.IdPath) -> dict[str, Any]:
    """One reconciliation."""
    return reconciling.one_run(house(), path.id)


@rooms.post("/runs/<id>/stop", responses=answers("drift_models.Run"))
@needs("deliveries.change")
def stop_run(path: q.IdPath) -> dict[str, Any]:
    """Stop a reconciliation at its next page."""
    return reconciling.stop(house(), caller(), path.id)


@rooms.get("/applications/<key>/drift", responses=answers("drift_models.PageOfDrift"))
@needs("attributes.read")
def list_drift(path: q.KeyPath, query: q.DriftQuery) -> dict[str, Any]:
    """In what an application differs from what should be there, as of its last whole reconciliation."""
    return reconciling.drift(house(), path.key, ask(query), query.kind, query.state)


@rooms.post("/applications/<key>/drift/mend", responses=answers("application_models.Number"))
@needs("deliveries.change")
def mend_drift(path: q.KeyPath, body: q.DriftBody) -> dict[str, Any]:
    """Have accounts that drifted be brought to what is due."""
    return reconciling.mend(house(), caller(), path.key, body.ids)


@rooms.post("/applications/<key>/drift/ignore", responses=answers("application_models.Number"))
@needs("deliveries.change")
def ignore_drift(path: q.KeyPath, body: q.IgnoreBody) -> dict[str, Any]:
    """Leave differences as they are and out of the list, or take that back."""
    return reconciling.ignore(house(), caller(), path.key, body.ids, ignored=body.ignored)


@rooms.post("/applications/<key>/drift/<id>/link", responses=answers("application_models.Number"))
@needs("deliveries.change")
def link_drift(path: q.OfApplicationPath, body: q.LinkBody) -> dict[str, Any]:
    """Say whose account there an unexpected one is."""
    return found_accounts.link(house(), caller(), path.key, path.id, body.person)


@rooms.post("/applications/<key>/drift/<id>/make-user", responses=answers("drift_models.MadeUser", 201))
@needs("people.change")
def make_user(path: q.OfApplicationPath, body: lq.MakeUserBody) -> tuple[dict[str, Any], int]:
    """Make a local person of an unexpected account, with its role there as an assignment to them."""
    return found_accounts.make_user(house(), caller(), path.key, path.id, body.role, body.confirm), 201
