"""Deliveries, the timeline, and the audit log."""

from __future__ import annotations

from dataclasses import asdict
from typing import Any

from flask import Response, current_app

from dravo.services import activity, auditing, deliveries, provisioning_summary, undoing
from dravo.web.api import asked as q
from dravo.web.api.assignments import sure_of
from dravo.web.api.describing import answers
from dravo.web.api.door import QUERY, ask, caller, house, needs, room
from dravo.web.api.moments import instant_of

rooms = room("deliveries")


@rooms.get("/deliveries", responses=answers("models.PageOfDeliveries"))
@needs("deliveries.read", of=QUERY)
def list_deliveries(query: q.DeliveriesQuery) -> dict[str, Any]:
    """Deliveries, newest first."""
    return deliveries.listing(house(), ask(query), query.state, query.application, query.person, query.q)


@rooms.get("/deliveries/<id>", responses=answers("models.Delivery"))
@needs("deliveries.read")
def get_delivery(path: q.IdPath) -> dict[str, Any]:
    """One delivery with its attempts."""
    return deliveries.one(house(), path.id)


@rooms.post("/deliveries/<id>/again", responses=answers("models.Delivery"))
@needs("deliveries.again")
def again(path: q.IdPath) -> dict[str, Any]:
    """Try a delivery again now."""
    return deliveries.again(house(), caller(), path.id)


@rooms.get("/deliveries/kinds", responses=answers("application_models.TroubleKinds"))
@needs("deliveries.read", of=QUERY)
def kinds(query: q.KindsQuery) -> dict[str, Any]:
    """What open deliveries failed by, with how many of each kind."""
    return deliveries.kinds(house(), query.application)


@rooms.get("/provisioning/summary", responses=answers("application_models.ProvisioningSummary"))
@needs("deliveries.read", of=QUERY)
def get_provisioning_summary(query: q.ProvisioningSummaryQuery) -> dict[str, Any]:
    """Count pending provisioning, or wait until nothing is pending."""
    # Each caller that waits takes one of the server's threads. A caller beyond the limit is answered at once and can ask again.
    waits = current_app.config["SUMMARY_WAITS"]
    may_wait = query.wait > 0 and waits.acquire(blocking=False)
    try:
        summary = provisioning_summary.summarize(house(), query.application, query.wait if may_wait else 0)
    finally:
        if may_wait:
            waits.release()
    return {"settled": summary.settled, **asdict(summary.counts)}


@rooms.post("/deliveries/again", responses=answers("application_models.Number"))
@needs("deliveries.change")
def again_all(body: q.AgainBody) -> dict[str, Any]:
    """Try all of an application again that failed or are held; of one kind of trouble, if that is said."""
    return deliveries.again_all(house(), caller(), body.application, body.kind)


@rooms.post("/deliveries/<id>/found", responses=answers("models.Delivery"))
@needs("deliveries.change")
def found(path: q.IdPath, body: q.FoundBody) -> dict[str, Any]:
    """Say what was found where it could not be known whether an account was made."""
    return deliveries.settle_unknown(house(), caller(), path.id, body.found, body.remote_id)


@rooms.get("/activity", responses=answers("models.PageOfActivity"))
@needs("activity.read", of=QUERY)
def timeline(query: q.ActivityQuery) -> dict[str, Any]:
    """What happened, newest first: requests, deliveries, reconciliations and changes, as far as the caller may read each."""
    until = instant_of(query.until, "until") if query.until else None
    about = activity.About(query.kind, query.source, query.application, query.person, query.trouble, until)
    return activity.listing(house(), caller(), ask(query), about)


@rooms.get("/audit", responses=answers("models.PageOfAuditEntries"))
@needs("audit.read")
def audit(query: q.AuditQuery) -> dict[str, Any]:
    """Which operator changed what, when; newest first."""
    with house().database.reading() as connection:
        return auditing.entries(connection, ask(query), query.kind, query.object)


@rooms.get("/audit/<id>/undo", responses=answers("access_models.Preview"))
@needs("audit.read")
def preview_undo(path: q.EntryPath) -> dict[str, Any]:
    """What taking a change of an assignment or policy back would do; nothing is changed."""
    return undoing.preview(house(), path.id)


@rooms.post("/audit/<id>/undo", responses={204: None})
@needs("assignments.change")
def undo(path: q.EntryPath, body: q.SureBody) -> Response:
    """Take a change of an assignment or policy back."""
    undoing.undo(house(), caller(), path.id, sure_of(body))
    return Response(status=204)


@rooms.get("/audit/verdict", responses=answers("models.AuditVerdict"))
@needs("audit.read")
def verdict() -> dict[str, Any]:
    """Whether the chain of the audit log holds."""
    with house().database.reading() as connection:
        broken = auditing.verify_chain(connection, house().keys)
    return {"holds": broken is None, "broken_at": broken}
