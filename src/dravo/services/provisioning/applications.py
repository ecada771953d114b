"""Applications: created, changed, deleted and listed."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection, Label, delete, func, insert, literal, select, update
from sqlalchemy.exc import IntegrityError

from dravo.core.errors import AlreadyExists, InvalidInput, StillInUse
from dravo.core.expiry import ending
from dravo.protocols.http_client import check_url
from dravo.protocols.scim_client.capabilities import read_capabilities
from dravo.services.access import license_plans
from dravo.services.access.license_plans import LicensePlanLine
from dravo.services.changes.recompute import USERS_PER_CHUNK, process_marks
from dravo.services.context import AppContext
from dravo.services.lookups import application_by_key, check_key, check_label
from dravo.services.provisioning import groups as group_provisioning
from dravo.services.provisioning import queue as task_queue
from dravo.services.provisioning import settings as provisioning_settings
from dravo.services.provisioning.settings import ProvisioningSettings
from dravo.services.security.audit_log import AuditEvent, record_change
from dravo.services.security.permissions import Caller
from dravo.store import clock, groups, memberships, recompute_marks
from dravo.store import tables as t
from dravo.store.access import license_plans as stored_plans
from dravo.store.ids import new_id
from dravo.store.pagination import Page, PageRequest, page
from dravo.store.plan_writer import FAILED, HELD, WAITING
from dravo.store.snapshots.config import raise_revision


@dataclass
class ApplicationLine:
    """An application as in lists."""

    key: str
    label: str
    owner: str | None
    address: str | None
    hidden: bool
    tracked_only: bool
    enabled: bool
    status: str
    users: int
    accounts: int
    waiting: int
    failed: int
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
    """A role with the number of its users."""

    key: str
    label: str
    rank: int
    users: int


@dataclass
class ApplicationDetail(ApplicationLine):
    """An application with all settings."""

    roles: list[Role]
    plans: list[LicensePlanLine]
    policy: Policy
    settings: ProvisioningSettings
    connection: ConnectionStatus


def add(
    ctx: AppContext, caller: Caller, key: str, label: str, owner: str | None, *, tracked_only: bool
) -> ApplicationDetail:
    """Add an application, as yet without roles or connection.

    Raises:
        InvalidInput, AlreadyExists.
    """
    now, application_id = clock.now(), new_id()
    row = {
        "id": application_id,
        "key": check_key(key),
        "label": check_label(label),
        "owner": owner,
        "revision": 1,
        "created_at": now,
        "tracked_only": tracked_only,
        "enabled": False,
        "create_accounts": True,
        "update_accounts": True,
        "adopt_by_user_name": False,
        "on_losing_access": "deactivate",
        "on_inactive": "deactivate",
        "on_leaving": "deactivate",
        "max_concurrency": 4,
        "failures": 0,
    }
    try:
        with ctx.database.writing() as connection:
            connection.execute(insert(t.application).values(**row))
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


def _statement() -> Any:
    p, x, a, d = t.application.c, t.access.c, t.account.c, t.task.c
    users = (
        select(func.count(x.user_id.distinct()))
        .where(x.application_id == p.id, x.until_at.is_(None))
        .scalar_subquery()
    )
    accounts = select(func.count()).select_from(t.account).where(a.application_id == p.id).scalar_subquery()

    def tasks(status: str) -> Label[int]:
        where = (d.application_id == p.id, d.closed_at.is_(None), d.status == status)
        return select(func.count()).select_from(t.task).where(*where).scalar_subquery().label(status)

    drifting = (
        select(func.count())
        .select_from(t.drift)
        .where(t.drift.c.application_id == p.id, t.drift.c.status == "open")
        .scalar_subquery()
    )
    return select(
        t.application,
        stored_plans.waiting_for_seats(p.id).label("waiting_for_seats"),
        stored_plans.short_plans(p.id).label("short_plans"),
        drifting.label("drifting"),
        _mapping_warnings(p.id).label("mapping_warnings"),
        users.label("users"),
        accounts.label("accounts"),
        tasks(WAITING),
        tasks(FAILED),
        tasks(HELD),
    )


def _mapping_warnings(application_id: Any) -> Any:
    """Return the number of rows of an application's mapping whose group is deleted or empty, as a column."""
    a = t.assignment.c
    where = (a.application_id == application_id, a.removed_at.is_(None), groups.reaches_nobody())
    return (
        select(func.count())
        .select_from(t.assignment)
        .join(t.group, t.group.c.id == a.group_id)
        .where(*where)
        .scalar_subquery()
    )


def _line(row: Any) -> ApplicationLine:
    return ApplicationLine(
        key=row.key,
        label=row.label,
        owner=row.owner,
        address=row.address,
        hidden=row.hidden,
        tracked_only=row.tracked_only,
        enabled=row.enabled,
        status=_status(row),
        users=row.users,
        accounts=row.accounts,
        waiting=row.waiting,
        failed=row.failed + row.held,
        drifting=row.drifting,
        mapping_warnings=row.mapping_warnings,
        waiting_for_seats=row.waiting_for_seats,
        short_plans=row.short_plans,
        answered_at=row.answered_at,
        secret_ends_at=ending(row.secret_expires_at, clock.now()) if row.secret else None,
        trouble=row.trouble,
        hint=row.trouble_hint,
        created_at=row.created_at,
    )


def _status(row: Any) -> str:
    if row.tracked_only:
        return "tracked_only"
    if not row.base_url or not row.secret:
        return "not_set_up"
    if row.paused_at:
        return "paused"
    if not row.enabled:
        return "disabled"
    return "not_answering" if row.failures else "ok"


def list_applications(
    ctx: AppContext, page_request: PageRequest, keys: frozenset[str] | None = None
) -> Page[ApplicationLine]:
    """Return a page of applications by label; `keys` limits them."""
    statement = _statement()
    if keys is not None:
        statement = statement.where(t.application.c.key.in_(keys))
    with ctx.database.reading() as connection:
        return page(connection, statement, [t.application.c.label, t.application.c.id], page_request, _line)


def one(ctx: AppContext, key: str) -> ApplicationDetail:
    """Return one application with its roles, settings and connection. Of its secret, only whether there is
    one.

    Raises:
        NotFound.
    """
    with ctx.database.reading() as connection:
        application_by_key(connection, key)
        row = connection.execute(_statement().where(t.application.c.key == key)).one()
        return ApplicationDetail(
            **vars(_line(row)),
            roles=_roles(connection, row.id),
            plans=license_plans.list_plans(connection, row.id),
            settings=provisioning_settings.shown(row),
            policy=_policy(connection, row),
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


def _policy(connection: Connection, row: Any) -> Policy:
    """Return how access is decided, the default role by its key."""
    default = connection.execute(select(t.role.c.key).where(t.role.c.id == row.default_role_id)).scalar()
    return Policy(
        eligibility=row.eligibility,
        fallback=row.fallback,
        fallback_role=default,
        several=row.several,
        first=row.first,
    )


def _roles(connection: Connection, application_id: str) -> list[Role]:
    r, x = t.role.c, t.access.c
    users = (
        select(func.count())
        .select_from(t.access)
        .where(x.role_id == r.id, x.until_at.is_(None))
        .scalar_subquery()
    )
    rows = connection.execute(
        select(t.role, users.label("users")).where(r.application_id == application_id).order_by(r.rank, r.key)
    )
    return [
        Role(
            key=row.key,
            label=row.label,
            rank=row.rank,
            users=row.users,
        )
        for row in rows
    ]


def change(
    ctx: AppContext, caller: Caller, key: str, about: dict[str, Any], settings: dict[str, Any]
) -> ApplicationDetail:
    """Change an application or its provisioning settings. New settings recompute everyone with an account
    there.

    Args:
        ctx: the data folder.
        caller: who changes it.
        key: the key of the application.
        about: "label", "owner", "address" (where users open it), "hidden" (not shown to users); None keeps a
            value.
        settings: as in `provisioning.settings`.

    Raises:
        InvalidInput, NotFound.
    """
    now = clock.now()
    with ctx.database.writing() as connection:
        row = application_by_key(connection, key)
        values = provisioning_settings.checked(connection, row, settings)
        works_out = any(getattr(row, name) != value for name, value in values.items())
        values |= _about(about)
        before = {name: getattr(row, name) for name in values}
        changed = {name: value for name, value in values.items() if before[name] != value}
        if changed:
            connection.execute(
                update(t.application)
                .where(t.application.c.id == row.id)
                .values(**changed, revision=t.application.c.revision + 1)
            )
            raise_revision(connection)
            if works_out:
                mark_everyone_with_an_account(connection, row.id)
                retry_failed_tasks(connection, row.id)
                group_provisioning.wake_all(connection, row.id, now)
            told = {name: value for name, value in changed.items() if name != "reconcile_next_at"}
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


def _about(about: dict[str, Any]) -> dict[str, Any]:
    values: dict[str, Any] = {}
    if about.get("label") is not None:
        values["label"] = check_label(about["label"])
    if about.get("owner") is not None:
        values["owner"] = about["owner"].strip() or None
    if about.get("address") is not None:
        # It becomes a link in a user's browser, so only HTTP URLs are allowed.
        values["address"] = check_url(about["address"], "address") if about["address"].strip() else None
    if about.get("hidden") is not None:
        values["hidden"] = about["hidden"]
    return values


def mark_everyone_with_an_account(
    connection: Connection, application_id: str, cleared: tuple[str, str] | None = None
) -> None:
    """Mark everyone with an account or access in an application; `cleared` as in `mark_selected`."""
    now = clock.now()
    with_account = select(t.account.c.user_id, literal(now)).where(
        t.account.c.application_id == application_id
    )
    with_access = (
        select(t.access.c.user_id, literal(now))
        .where(t.access.c.application_id == application_id, t.access.c.until_at.is_(None))
        .distinct()
    )
    recompute_marks.mark_selected(connection, with_account, cleared)
    recompute_marks.mark_selected(connection, with_access, cleared)


def mark_those_in_patterns(
    connection: Connection, application_id: str, cleared: tuple[str, str] | None = None
) -> None:
    """Mark everyone whom a name pattern can touch, after a change of roles: which roles patterns assign, and
    which role is the highest, may have changed. `cleared` as in `mark_selected`.
    """
    a = t.assignment.c
    patterned = select(a.source_id).where(
        a.application_id == application_id, a.pattern.is_not(None), a.removed_at.is_(None)
    )
    users = memberships.users_in_groups_of(patterned, literal(clock.now()))
    recompute_marks.mark_selected(connection, users, cleared)


def retry_failed_tasks(connection: Connection, application_id: str) -> None:
    """Try again what failed or was held under the former settings."""
    connection.execute(
        update(t.task)
        .where(
            t.task.c.application_id == application_id,
            t.task.c.status.in_((FAILED, HELD)),
            t.task.c.closed_at.is_(None),
            func.coalesce(t.task.c.kind, "") != task_queue.UNKNOWN,
            t.task.c.held_at.is_(None),
        )
        .values(status=WAITING, next_attempt_at=clock.now(), message=None, hint=None)
    )
    group_provisioning.wake_failed(connection, application_id, clock.now())


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
        used = (
            select(t.assignment.c.id)
            .where(t.assignment.c.application_id == row.id, t.assignment.c.removed_at.is_(None))
            .limit(1)
        )
        if connection.execute(used).first():
            raise StillInUse(
                f"'{row.label}' has assignments.",
                "Delete the assignments first. Dravo then deprovisions the accounts.",
            )
        unsettled = (
            select(t.task.c.id)
            .where(t.task.c.application_id == row.id, t.task.c.closed_at.is_(None))
            .limit(1)
        )
        if connection.execute(unsettled).first():
            raise StillInUse(
                f"'{row.label}' still has open provisioning tasks.",
                "Wait until the tasks are done, or fix the cause of the failed tasks.",
            )
        of_application = select(t.task.c.id).where(t.task.c.application_id == row.id)
        connection.execute(delete(t.task_attempt).where(t.task_attempt.c.task_id.in_(of_application)))
        over = select(t.provisioned_group.c.id).where(t.provisioned_group.c.application_id == row.id)
        connection.execute(
            delete(t.provisioned_member).where(t.provisioned_member.c.provisioned_group_id.in_(over))
        )
        connection.execute(
            delete(t.operator_application).where(t.operator_application.c.application_id == row.id)
        )
        for table in (
            t.review_row,
            t.provisioned_group,
            t.drift,
            t.run,
            t.task,
            t.account,
            t.seat,
            t.retained_role,
            t.access,
            t.assignment,
            t.license_plan,
            t.role,
        ):
            connection.execute(delete(table).where(table.c.application_id == row.id))
        connection.execute(delete(t.application).where(t.application.c.id == row.id))
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
