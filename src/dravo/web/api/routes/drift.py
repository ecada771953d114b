"""Reconciliations, and what is done about drift."""

from __future__ import annotations

from typing import Any

from dravo.services.provisioning import reconciliation, unlinked_accounts
from dravo.web.api.auth import ask, caller, house, needs, room
from dravo.web.api.openapi import answers
from dravo.web.api.schemas.common import IdPath, KeyPath, OfApplicationPath, PageQuery
from dravo.web.api.schemas.drift import CreateUserFromAccountRequest, DriftQuery, DriftRequest, IgnoreRequest, LinkRequest

rooms = room("drift")


@rooms.post("/applications/<key>/runs", responses=answers("drift.Run", 201))
@needs("deliveries.change")
def begin_run(path: KeyPath) -> tuple[dict[str, Any], int]:
    """Compare an application with what should be there; the worker does it, and the run tells how far it is."""
    return reconciliation.ask_for(house(), caller(), path.key), 201


@rooms.get("/applications/<key>/runs", responses=answers("drift.PageOfRuns"))
@needs("deliveries.read")
def list_runs(path: KeyPath, query: PageQuery) -> dict[str, Any]:
    """An application's reconciliations, newest first."""
    return reconciliation.runs(house(), path.key, ask(query))


@rooms.get("/runs/<id>", responses=answers("drift.Run"))
@needs("deliveries.read")
def get_run(path: IdPath) -> dict[str, Any]:
    """One reconciliation."""
    return reconciliation.one_run(house(), path.id)


@rooms.post("/runs/<id>/stop", responses=answers("drift.Run"))
@needs("deliveries.change")
def stop_run(path: IdPath) -> dict[str, Any]:
    """Stop a reconciliation at its next page."""
    return reconciliation.stop(house(), caller(), path.id)


@rooms.get("/applications/<key>/drift", responses=answers("drift.PageOfDrift"))
@needs("attributes.read")
def list_drift(path: KeyPath, query: DriftQuery) -> dict[str, Any]:
    """In what an application differs from what should be there, as of its last whole reconciliation."""
    return reconciliation.drift(house(), path.key, ask(query), query.kind, query.state)


@rooms.post("/applications/<key>/drift/mend", responses=answers("common.Number"))
@needs("deliveries.change")
def mend_drift(path: KeyPath, body: DriftRequest) -> dict[str, Any]:
    """Have accounts that drifted be brought to what is due."""
    return reconciliation.mend(house(), caller(), path.key, body.ids)


@rooms.post("/applications/<key>/drift/ignore", responses=answers("common.Number"))
@needs("deliveries.change")
def ignore_drift(path: KeyPath, body: IgnoreRequest) -> dict[str, Any]:
    """Leave differences as they are and out of the list, or take that back."""
    return reconciliation.ignore(house(), caller(), path.key, body.ids, ignored=body.ignored)


@rooms.post("/applications/<key>/drift/<id>/link", responses=answers("common.Number"))
@needs("deliveries.change")
def link_drift(path: OfApplicationPath, body: LinkRequest) -> dict[str, Any]:
    """Say whose account there an unexpected one is."""
    return unlinked_accounts.link(house(), caller(), path.key, path.id, body.person)


@rooms.post("/applications/<key>/drift/<id>/make-user", responses=answers("drift.MadeUser", 201))
@needs("people.change")
def make_user(path: OfApplicationPath, body: CreateUserFromAccountRequest) -> tuple[dict[str, Any], int]:
    """Make a local person of an unexpected account, with its role there as an assignment to them."""
    return unlinked_accounts.make_user(house(), caller(), path.key, path.id, body.role, body.confirm), 201
