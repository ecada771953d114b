"""Deliveries, the timeline, and the audit log."""

from __future__ import annotations

from dataclasses import asdict
from typing import Any

from flask import Response, current_app

from dravo.services.access import undo as access_undo
from dravo.services.provisioning import summary as provisioning_summary
from dravo.services.provisioning import tasks
from dravo.services.reporting import activity
from dravo.services.security import audit_log
from dravo.web.api.auth import QUERY, ask, caller, house, needs, room
from dravo.web.api.dates import instant_of
from dravo.web.api.openapi import answers
from dravo.web.api.routes.assignments import sure_of
from dravo.web.api.schemas.activity import ActivityQuery, AuditQuery, EntryPath
from dravo.web.api.schemas.common import ConfirmedRequest, IdPath
from dravo.web.api.schemas.tasks import DeliveriesQuery, KindsQuery, ProvisioningSummaryQuery, ResolveRequest, RetryRequest

rooms = room("deliveries")


@rooms.get("/deliveries", responses=answers("tasks.PageOfDeliveries"))
@needs("deliveries.read", of=QUERY)
def list_deliveries(query: DeliveriesQuery) -> dict[str, Any]:
    """Deliveries, newest first."""
    return tasks.listing(house(), ask(query), query.state, query.application, query.person, query.q)


@rooms.get("/deliveries/<id>", responses=answers("tasks.Delivery"))
@needs("deliveries.read")
def get_delivery(path: IdPath) -> dict[str, Any]:
    """One delivery with its attempts."""
    return tasks.one(house(), path.id)


@rooms.post("/deliveries/<id>/again", responses=answers("tasks.Delivery"))
@needs("deliveries.again")
def again(path: IdPath) -> dict[str, Any]:
    """Try a delivery again now."""
    return tasks.again(house(), caller(), path.id)


@rooms.get("/deliveries/kinds", responses=answers("tasks.TroubleKinds"))
@needs("deliveries.read", of=QUERY)
def kinds(query: KindsQuery) -> dict[str, Any]:
    """What open deliveries failed by, with how many of each kind."""
    return tasks.kinds(house(), query.application)


@rooms.get("/provisioning/summary", responses=answers("tasks.ProvisioningSummary"))
@needs("deliveries.read", of=QUERY)
def get_provisioning_summary(query: ProvisioningSummaryQuery) -> dict[str, Any]:
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


@rooms.post("/deliveries/again", responses=answers("common.Number"))
@needs("deliveries.change")
def again_all(body: RetryRequest) -> dict[str, Any]:
    """Try all of an application again that failed or are held; of one kind of trouble, if that is said."""
    return tasks.again_all(house(), caller(), body.application, body.kind)


@rooms.post("/deliveries/<id>/found", responses=answers("tasks.Delivery"))
@needs("deliveries.change")
def found(path: IdPath, body: ResolveRequest) -> dict[str, Any]:
    """Say what was found where it could not be known whether an account was made."""
    return tasks.settle_unknown(house(), caller(), path.id, body.found, body.remote_id)


@rooms.get("/activity", responses=answers("activity.PageOfActivity"))
@needs("activity.read", of=QUERY)
def timeline(query: ActivityQuery) -> dict[str, Any]:
    """What happened, newest first: requests, deliveries, reconciliations and changes, as far as the caller may read each."""
    until = instant_of(query.until, "until") if query.until else None
    about = activity.About(query.kind, query.source, query.application, query.person, query.trouble, until)
    return activity.listing(house(), caller(), ask(query), about)


@rooms.get("/audit", responses=answers("activity.PageOfAuditEntries"))
@needs("audit.read")
def audit(query: AuditQuery) -> dict[str, Any]:
    """Which operator changed what, when; newest first."""
    with house().database.reading() as connection:
        return audit_log.entries(connection, ask(query), query.kind, query.object)


@rooms.get("/audit/<id>/undo", responses=answers("assignments.Preview"))
@needs("audit.read")
def preview_undo(path: EntryPath) -> dict[str, Any]:
    """What taking a change of an assignment or policy back would do; nothing is changed."""
    return access_undo.preview(house(), path.id)


@rooms.post("/audit/<id>/undo", responses={204: None})
@needs("assignments.change")
def undo(path: EntryPath, body: ConfirmedRequest) -> Response:
    """Take a change of an assignment or policy back."""
    access_undo.undo(house(), caller(), path.id, sure_of(body))
    return Response(status=204)


@rooms.get("/audit/verdict", responses=answers("activity.AuditVerdict"))
@needs("audit.read")
def verdict() -> dict[str, Any]:
    """Whether the chain of the audit log holds."""
    with house().database.reading() as connection:
        broken = audit_log.verify_chain(connection, house().keys)
    return {"holds": broken is None, "broken_at": broken}
