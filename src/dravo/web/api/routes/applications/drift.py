"""Reconciliations, and what is done about drift."""

from __future__ import annotations

from dravo.services.provisioning.drift import (
    account_comparison,
    found_accounts,
    reconciliation,
    unlinked_accounts,
)
from dravo.services.provisioning.drift import differences as drift
from dravo.services.provisioning.drift.account_comparison import ComparedAccount
from dravo.services.provisioning.drift.differences import DriftLine, RepairPreview
from dravo.services.provisioning.drift.found_accounts import FoundAccounts
from dravo.services.provisioning.drift.reconciliation import ReconciliationRun
from dravo.services.provisioning.drift.unlinked_accounts import CreatedUser
from dravo.services.results import Number
from dravo.store.pagination import Page
from dravo.web.api.auth import api_blueprint, app_context, caller, needs, page_request
from dravo.web.api.openapi import responses
from dravo.web.api.schemas.applications.drift import (
    AccountComparisonQuery,
    AdoptRequest,
    CreateUserFromAccountRequest,
    DriftQuery,
    DriftRequest,
    IgnoreRequest,
    LinkRequest,
)
from dravo.web.api.schemas.common import IdPath, KeyPath, OfApplicationPath, PageQuery

routes = api_blueprint("drift")


@routes.post("/applications/<key>/reconciliation/runs", responses=responses("applications.drift.Run", 201))
@needs("tasks.change")
def start_run(path: KeyPath) -> tuple[ReconciliationRun, int]:
    """Start a reconciliation.

    Only one reconciliation of an application can run at a time.
    """
    return reconciliation.ask_for(app_context(), caller(), path.key), 201


@routes.get("/applications/<key>/reconciliation/runs", responses=responses("applications.drift.PageOfRuns"))
@needs("tasks.read")
def list_runs(path: KeyPath, query: PageQuery) -> Page[ReconciliationRun]:
    """List reconciliations.

    Reconciliations of the application, newest first.
    """
    return reconciliation.runs(app_context(), path.key, page_request(query))


@routes.get("/reconciliation/runs/<id>", responses=responses("applications.drift.Run"))
@needs("tasks.read")
def get_run(path: IdPath) -> ReconciliationRun:
    """Get a reconciliation.

    Returns the progress or the result.
    """
    return reconciliation.one_run(app_context(), path.id)


@routes.post("/reconciliation/runs/<id>/stop", responses=responses("applications.drift.Run"))
@needs("tasks.change")
def stop_run(path: IdPath) -> ReconciliationRun:
    """Stop a reconciliation.

    Stops after the current page. Previous results remain.
    """
    return reconciliation.stop(app_context(), caller(), path.id)


@routes.get("/applications/<key>/drift", responses=responses("applications.drift.PageOfDrift"))
@needs("attributes.read")
def list_drift(path: KeyPath, query: DriftQuery) -> Page[DriftLine]:
    """List drift of an application.

    Differences found by the last complete reconciliation.
    """
    return drift.drift(app_context(), path.key, page_request(query), query.kind, query.status)


@routes.post("/applications/<key>/drift/repair", responses=responses("common.Number"))
@needs("tasks.change")
def repair_drift(path: KeyPath, body: DriftRequest) -> Number:
    """Repair differences.

    Dravo brings the accounts and groups to their desired state.
    """
    return drift.repair(app_context(), caller(), path.key, body.ids)


@routes.post(
    "/applications/<key>/drift/repair/preview", responses=responses("applications.drift.RepairPreview")
)
@needs("attributes.read")
def preview_repair(path: KeyPath, body: DriftRequest) -> RepairPreview:
    """Preview a repair.

    Returns what Dravo would do to each account and group. Changes nothing.
    """
    return drift.preview_repair(app_context(), path.key, body.ids)


@routes.post("/applications/<key>/drift/ignore", responses=responses("common.Number"))
@needs("tasks.change")
def ignore_drift(path: KeyPath, body: IgnoreRequest) -> Number:
    """Ignore or stop ignoring differences.

    Ignored differences are hidden from the list.
    """
    return drift.ignore(app_context(), caller(), path.key, body.ids, ignored=body.ignored)


@routes.get(
    "/applications/<key>/account-comparison",
    responses=responses("applications.drift.PageOfComparedAccounts"),
)
@needs("attributes.read")
def compare_accounts(path: KeyPath, query: AccountComparisonQuery) -> Page[ComparedAccount]:
    """List accounts beside the desired ones.

    The whole list of the application's accounts, as of the last complete reconciliation.
    """
    return account_comparison.list_accounts(
        app_context(), path.key, page_request(query), query.status, query.q
    )


@routes.post("/applications/<key>/drift/adopt", responses=responses("applications.drift.FoundAccounts"))
@needs("users.change")
def adopt_accounts(path: KeyPath, body: AdoptRequest) -> FoundAccounts:
    """Adopt unlinked accounts.

    Links each account to the user who matches. Leaves accounts that need a decision, with the reason.
    """
    return found_accounts.settle_many(
        app_context(), caller(), path.key, body.ids, create_users=body.create_users
    )


@routes.post(
    "/applications/<key>/drift/adopt/preview", responses=responses("applications.drift.FoundAccounts")
)
@needs("attributes.read")
def preview_adopting(path: KeyPath, body: AdoptRequest) -> FoundAccounts:
    """Preview adopting unlinked accounts.

    Returns what Dravo would do with each account. Changes nothing.
    """
    return found_accounts.preview_many(app_context(), path.key, body.ids, create_users=body.create_users)


@routes.post("/applications/<key>/drift/<id>/link", responses=responses("common.Number"))
@needs("tasks.change")
def link_drift(path: OfApplicationPath, body: LinkRequest) -> Number:
    """Link an unlinked account to a user.

    The user needs access to the application.
    """
    return unlinked_accounts.link(app_context(), caller(), path.key, path.id, body.user)


@routes.post(
    "/applications/<key>/drift/<id>/create-user", responses=responses("applications.drift.MadeUser", 201)
)
@needs("users.change")
def make_user(path: OfApplicationPath, body: CreateUserFromAccountRequest) -> tuple[CreatedUser, int]:
    """Create a user for an unlinked account.

    Creates a local user with the role of the account. Requires `confirm` if the user would get more access.
    """
    return unlinked_accounts.make_user(
        app_context(), caller(), path.key, path.id, body.role, body.confirm
    ), 201
