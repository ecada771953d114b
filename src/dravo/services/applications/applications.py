"""Applications: created, changed, deleted and listed."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection
from sqlalchemy.exc import IntegrityError

from dravo.core.errors import AlreadyExists, InvalidInput, StillInUse
from dravo.core.expiry import ending
from dravo.core.instants import Instant
from dravo.protocols.http_client import check_url
from dravo.protocols.scim_client.capabilities import read_capabilities
from dravo.services.access import license_plans
from dravo.services.access.license_plans import LicensePlanLine
from dravo.services.applications import settings as provisioning_settings
from dravo.services.applications import tracking
from dravo.services.applications.settings import ProvisioningSettings
from dravo.services.changes.effects import ChangeEffects, count
from dravo.services.changes.recompute import USERS_PER_CHUNK, process_marks
from dravo.services.context import AppContext
from dravo.services.lookups import application_by_key, check_key, check_label
from dravo.services.security import masking, operators
from dravo.services.security.audit_log import AuditEvent, record_change
from dravo.services.security.permissions import Caller
from dravo.store import clock
from dravo.store.ids import new_id
from dravo.store.pagination import Page, PageRequest
from dravo.store.provisioning import applications as stored
from dravo.store.provisioning import groups as provisioned_group_rows
from dravo.store.provisioning import tasks as task_rows
from dravo.store.provisioning.applications import ListedApplication
from dravo.store.queries import applications as application_rows
from dravo.store.queries import groups as group_queries
from dravo.store.queries.applications import Application
from dravo.store.queries.references import GroupRef, KeyAndLabel, key_and_label
from dravo.store.snapshots.config import raise_revision


@dataclass
class ApplicationLine:
    """An application as in lists."""

    key: str
    label: str
    owner: str | None
    icon: str | None
    instance_of: KeyAndLabel | None
    address: str | None
    hidden: bool
    requestable: bool
    tracked_only: bool
    enabled: bool
    status: str
    users: int
    accounts: int
    waiting: int
    failed: int
    manual: int
    drifting: int
    mapping_warnings: int
    waiting_for_seats: int
    short_plans: int
    answered_at: str | None
    secret_ends_at: str | None
    trouble: str | None
    hint: str | None
    created_at: str


@dataclass
class ConnectionStatus:
    """The connection to an application."""

    base_url: str | None
    has_secret: bool
    auth: dict[str, Any]
    secret_expires_at: str | None
    checked_at: str | None
    capabilities: dict[str, Any] | None
    paused_at: str | None
    failures: int
    retry_at: str | None


@dataclass
class Policy:
    """An access policy: eligible users, fallback, multiple roles and precedence."""

    eligibility: str
    fallback: str
    fallback_role: str | None
    several: str
    first: str


@dataclass
class Role:
    """A role with the number of its users; without `sent_value`, the key is sent."""

    key: str
    label: str
    rank: int
    sent_value: str | None
    description: str | None
    users: int


@dataclass
class ProvisioningStatus:
    """Whether accounts are provisioned: "disabled", "pilot", "scheduled" or "enabled"."""

    status: str
    pilot_group: GroupRef | None
    enabled_from: Instant | None


@dataclass
class ApplicationDetail(ApplicationLine):
    """An application with all settings."""

    note: str | None
    instances: list[KeyAndLabel]
    roles: list[Role]
    plans: list[LicensePlanLine]
    policy: Policy
    provisioning: ProvisioningStatus
    settings: ProvisioningSettings
    connection: ConnectionStatus


def add(
    ctx: AppContext, caller: Caller, key: str, label: str, owner: str | None, *, tracked_only: bool
) -> ApplicationDetail:
    """Add an application, as yet without roles or connection. An owner needs `operators.change`.

    Raises:
        InvalidInput, AlreadyExists, NotPermitted; NotFound: for an unknown owner.
    """
    now, application_id = clock.now(), new_id()
    row = {
        "id": application_id,
        "key": check_key(key),
        "label": check_label(label),
        "revision": 1,
        "created_at": now,
        "tracked_only": tracked_only,
        "enabled": False,
        "create_accounts": True,
        "update_accounts": True,
        "on_losing_access": "deactivate",
        "on_inactive": "deactivate",
        "on_leaving": "deactivate",
        "max_concurrency": 4,
        "failures": 0,
    }
    try:
        with ctx.database.writing() as connection:
            row["owner_id"] = _owner_id(connection, caller, owner or "")
            stored.insert_application(connection, row)
            raise_revision(connection)
            record_change(
                connection,
                ctx.keys,
                caller,
                now,
                AuditEvent(
                    "added application", "application", application_id, details={"key": key, "label": label}
                ),
            )
    except IntegrityError:
        raise AlreadyExists(
            f"An application with the key '{key}' exists already.", "Choose another key.", "key"
        ) from None
    return one(ctx, key)


def _line(row: ListedApplication) -> ApplicationLine:
    return ApplicationLine(
        key=row.key,
        label=row.label,
        owner=row.owner,
        icon=row.icon,
        instance_of=key_and_label(row.original_key, row.original_label),
        address=row.address,
        hidden=row.hidden,
        requestable=row.requestable,
        tracked_only=row.tracked_only,
        enabled=row.enabled,
        status=_status(row),
        users=row.users,
        accounts=row.accounts,
        waiting=row.waiting,
        failed=row.failed + row.held,
        manual=row.manual,
        drifting=row.drifting,
        mapping_warnings=row.mapping_warnings,
        waiting_for_seats=row.waiting_for_seats,
        short_plans=row.short_plans,
        answered_at=row.answered_at,
        secret_ends_at=ending(row.secret_expires_at, clock.now()) if row.secret else None,
        trouble=masking.text(row.trouble),
        hint=row.trouble_hint,
        created_at=row.created_at,
    )


def _status(row: ListedApplication) -> str:
    if row.tracked_only:
        return "tracked_only"
    if not row.base_url or not row.secret:
        return "not_set_up"
    if row.paused_at:
        return "paused"
    status = provisioning_settings.status_of(row)
    if row.enabled and row.failures:
        return "not_answering"
    return "ok" if status == provisioning_settings.ENABLED else status


def list_applications(
    ctx: AppContext, page_request: PageRequest, keys: frozenset[str] | None = None
) -> Page[ApplicationLine]:
    """Return a page of applications by label; `keys` limits them."""
    with ctx.database.reading() as connection:
        return stored.list_applications(connection, page_request, keys, _line)


def one(ctx: AppContext, key: str) -> ApplicationDetail:
    """Return one application with its roles, settings and connection. Of its secret, only whether there is
    one.

    Raises:
        NotFound.
    """
    with ctx.database.reading() as connection:
        application_by_key(connection, key)
        row = stored.one(connection, key)
        return ApplicationDetail(
            **vars(_line(row)),
            note=row.note,
            instances=[KeyAndLabel(*each) for each in stored.instances(connection, row)],
            roles=_roles(connection, row.id),
            plans=license_plans.list_plans(connection, row.id),
            settings=provisioning_settings.shown(row),
            policy=_policy(connection, row),
            provisioning=_provisioning(connection, row),
            connection=ConnectionStatus(
                base_url=row.base_url,
                has_secret=bool(row.secret),
                auth=row.auth or {"kind": "bearer"},
                secret_expires_at=row.secret_expires_at,
                checked_at=row.checked_at,
                capabilities=read_capabilities(row.capabilities).document() if row.capabilities else None,
                paused_at=row.paused_at,
                failures=row.failures,
                retry_at=row.retry_at,
            ),
        )


def _provisioning(connection: Connection, row: Application) -> ProvisioningStatus:
    return ProvisioningStatus(
        status=provisioning_settings.status_of(row),
        pilot_group=_pilot_group(connection, row.pilot_group_id),
        enabled_from=row.enabled_from,
    )


def _pilot_group(connection: Connection, group_id: str | None) -> GroupRef | None:
    if group_id is None:
        return None
    group = group_queries.group(connection, group_id)
    return GroupRef(group_id, group.name if group is not None else "deleted group", gone=group is None)


def _policy(connection: Connection, row: Application) -> Policy:
    """Return how access is decided, the default role by its key."""
    default = application_rows.role_key_of(connection, row.default_role_id) if row.default_role_id else None
    return Policy(
        eligibility=row.eligibility,
        fallback=row.fallback,
        fallback_role=default,
        several=row.several,
        first=row.first,
    )


def _roles(connection: Connection, application_id: str) -> list[Role]:
    return [Role(**vars(row)) for row in stored.list_roles(connection, application_id)]


def change(
    ctx: AppContext, caller: Caller, key: str, about: dict[str, Any], settings: dict[str, Any]
) -> ApplicationDetail:
    """Change an application or its provisioning settings. New settings recompute everyone with an account
    there.

    Args:
        ctx: the data folder.
        caller: who changes it.
        key: the key of the application.
        about: "label", "owner" (the name of an operator; needs `operators.change`), "address" (where users
            open it), "hidden" (not shown to users), "requestable" (users can request access), "note",
            "tracked_only" (operators manage the accounts); None keeps a value.
        settings: as in `applications.settings`.

    Raises:
        InvalidInput, NotFound, NotPermitted.
    """
    now = clock.now()
    with ctx.database.writing() as connection:
        row = application_by_key(connection, key)
        values = provisioning_settings.checked(connection, row, settings)
        works_out = any(getattr(row, name) != value for name, value in values.items())
        values |= _about(about)
        if about.get("owner") is not None:
            values["owner_id"] = _owner_id(connection, caller, about["owner"], row.owner_id)
        if about.get("tracked_only") is not None:
            values |= tracking.switch(connection, row, tracked_only=about["tracked_only"])
        before = {name: getattr(row, name) for name in values}
        changed = {name: value for name, value in values.items() if before[name] != value}
        if changed:
            stored.update_settings(connection, row.id, **changed)
            raise_revision(connection)
            if works_out:
                stored.mark_everyone_with_an_account(connection, row.id, now, None)
                retry_failed_tasks(connection, row.id)
                provisioned_group_rows.wake_all(connection, row.id, now)
            told = {name: value for name, value in changed.items() if name != "reconcile_next_at"}
            told, before = _with_owners(connection, told), _with_owners(connection, before)
            record_change(
                connection,
                ctx.keys,
                caller,
                now,
                AuditEvent(
                    "changed application",
                    "application",
                    row.id,
                    details={"key": key, "before": {name: before[name] for name in told}, "after": told},
                ),
            )
    process_marks(ctx, USERS_PER_CHUNK)
    return one(ctx, key)


def _owner_id(connection: Connection, caller: Caller, name: str, before: str | None = None) -> str | None:
    """Return the ID of the operator who is to own an application; None for an empty name."""
    if before is not None and operators.known(connection, before).name == name.strip():
        return before
    owner = operators.owner_named(connection, name) if name.strip() else None
    owner_id = owner.id if owner is not None else None
    if owner_id != before:
        # The owner may change assignments there, so this decides what an operator may do.
        caller.require("operators.change")
    return owner_id


def _with_owners(connection: Connection, values: dict[str, Any]) -> dict[str, Any]:
    """Return values for the audit log, which names the owner."""
    shown = {name: value for name, value in values.items() if name != "owner_id"}
    if "owner_id" in values:
        owner_id = values["owner_id"]
        shown["owner"] = operators.known(connection, owner_id).name if owner_id else None
    return shown


def _about(about: dict[str, Any]) -> dict[str, Any]:
    values: dict[str, Any] = {}
    if about.get("label") is not None:
        values["label"] = check_label(about["label"])
    if about.get("address") is not None:
        # It becomes a link in a user's browser, so only HTTP URLs are allowed.
        values["address"] = check_url(about["address"], "address") if about["address"].strip() else None
    if about.get("hidden") is not None:
        values["hidden"] = about["hidden"]
    if about.get("requestable") is not None:
        values["requestable"] = about["requestable"]
    if about.get("note") is not None:
        values["note"] = about["note"].strip() or None
    return values


def retry_failed_tasks(connection: Connection, application_id: str) -> None:
    """Try again what failed or was held under the former settings."""
    task_rows.retry_of_application(connection, application_id, clock.now())
    provisioned_group_rows.wake_failed(connection, application_id, clock.now())


def preview_removal(ctx: AppContext, key: str) -> ChangeEffects:
    """Return the effects of `remove`; nothing is changed.

    Raises:
        NotFound; StillInUse as `remove`.
    """
    effects = ChangeEffects()
    with ctx.database.reading() as connection:
        row = application_by_key(connection, key)
        _check_unused(connection, row)
        found = stored.count_deletion(connection, row.id)
        manual = stored.one(connection, key).manual
    if found.accounts:
        effects.add(
            f"The application keeps {count(found.accounts, 'account', 'accounts')}, which Dravo no longer "
            "manages."
        )
    if manual:
        effects.add(
            f"{count(manual, 'account', 'accounts')} on the list for operators stay as they are in the "
            "application."
        )
    effects.add(
        f"{count(found.roles, 'role', 'roles')} and "
        f"{count(found.plans, 'license plan', 'license plans')} are deleted, with all settings."
    )
    effects.add(
        f"The history is deleted: {count(found.access, 'period', 'periods')} of access, "
        f"{count(found.tasks, 'provisioning task', 'provisioning tasks')}, "
        f"{count(found.decisions, 'review decision', 'review decisions')}."
    )
    return effects


def _check_unused(connection: Connection, row: Application) -> None:
    if stored.has_assignments(connection, row.id):
        raise StillInUse(
            f"'{row.label}' has assignments.",
            "Delete the assignments first. Dravo then deprovisions the accounts.",
        )
    if not row.tracked_only and task_rows.has_open_tasks(connection, row.id):
        raise StillInUse(
            f"'{row.label}' still has open provisioning tasks.",
            "Wait until the tasks are done, or fix the cause of the failed tasks.",
        )


def remove(ctx: AppContext, caller: Caller, key: str, confirmed: str | None) -> None:
    """Remove an application that no user has access to, with its history.

    Raises:
        StillInUse: if users have access. Remove the assignments first, so that accounts are deprovisioned.
        InvalidInput: if `confirm` is not the label.
    """
    with ctx.database.writing() as connection:
        row = application_by_key(connection, key)
        if confirmed != row.label:
            raise InvalidInput(
                f"Deleting '{row.label}' also deletes its history.",
                f"Type the label, '{row.label}', to confirm.",
                "confirm",
            )
        _check_unused(connection, row)
        stored.delete_application(connection, row.id)
        raise_revision(connection)
        record_change(
            connection,
            ctx.keys,
            caller,
            clock.now(),
            AuditEvent(
                "deleted application", "application", row.id, details={"key": key, "label": row.label}
            ),
        )
