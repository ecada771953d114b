"""Accounts in an application that belong to no user here: link one to a user, or create a user for it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection

from dravo.core.access.reasons import named
from dravo.core.access.types import Assignment
from dravo.core.errors import InvalidInput
from dravo.core.identity.records import LOCAL, UserRecord
from dravo.core.instants import Instant
from dravo.core.plan_types import ConfigSnapshot, UserSnapshot
from dravo.core.planning import plan_user
from dravo.core.provisioning.drift import MISSING, UNEXPECTED
from dravo.core.scim.schemas import ENTERPRISE_URN
from dravo.services import settings
from dravo.services.changes.removal_limits import NeedsConfirmation
from dravo.services.context import AppContext
from dravo.services.ingest.local import users as local_users
from dravo.services.ingest.local.source import local_source
from dravo.services.lookups import application_by_key, find_user, role_by_key
from dravo.services.provisioning.drift.differences import rows_of
from dravo.services.provisioning.tasks import bind
from dravo.services.results import Number
from dravo.services.security.audit_log import AuditEvent, record_change
from dravo.services.security.permissions import Caller
from dravo.store import clock
from dravo.store.access import assignments as assignment_rows
from dravo.store.ids import new_id
from dravo.store.provisioning import drift as drift_rows
from dravo.store.provisioning import tasks as task_rows
from dravo.store.provisioning.drift import StoredDrift
from dravo.store.provisioning.tasks import reopen
from dravo.store.queries import applications as application_rows
from dravo.store.queries.applications import Application, StoredRole
from dravo.store.snapshots.config import raise_revision


def link(ctx: AppContext, caller: Caller, key: str, drift_id: str, user: str) -> Number:
    """Link an unlinked account to a user; it is then brought to the user's desired state.

    Raises:
        NotFound.
        InvalidInput: if the user has no access to the application, or has an account there.
    """
    now = clock.now()
    with ctx.database.writing() as connection:
        application = application_by_key(connection, key)
        row = rows_of(connection, application.id, [drift_id])[0]
        found = find_user(connection, user)
        account = task_rows.account_of_user(connection, application.id, found.id)
        if row.kind != UNEXPECTED:
            raise InvalidInput(
                f"'{row.name}' is linked to a user already.", "Repair the difference, or ignore it.", "user"
            )
        if account is None:
            raise InvalidInput(
                f"{found.display_name} has no access to '{application.label}'.",
                "Assign a role first, then link the account.",
                "user",
            )
        if account.remote_id is not None and not is_dead(connection, account.id, account.remote_id):
            raise InvalidInput(
                f"{found.display_name} has another account in the application ({account.remote_id}).",
                "A user can have only one account. If the other one was deleted, reconcile first.",
                "user",
            )
        bind(connection, application.id, account.id, row.remote_id or "")
        reopen(connection, account.id, now)
        drift_rows.delete_drift(connection, [row.id])
        drift_rows.delete_of_account(connection, account.id, MISSING)
        details = {"application": key, "remote_id": row.remote_id}
        record_change(
            connection,
            ctx.keys,
            caller,
            now,
            AuditEvent(
                "linked account",
                "account",
                account.id,
                details=details,
                personal={"user": found.display_name},
            ),
        )
    return Number(1)


def is_dead(connection: Connection, account_id: str, remote_id: str | None) -> bool:
    """Return whether the account of a user was missing in the last reconciliation."""
    return drift_rows.has_drift(connection, account_id, MISSING, remote_id)


@dataclass(frozen=True)
class CreatedUser:
    """A user who was created for an account; `user` is the ID."""

    user: str


def make_user(
    ctx: AppContext,
    caller: Caller,
    key: str,
    drift_id: str,
    role: str | None = None,
    confirm: str | None = None,
) -> CreatedUser:
    """Create a local user for an unlinked account, with the account's role as an assignment, and link them.

    Args:
        ctx: the data folder.
        caller: who creates the user.
        key: the key of the application.
        drift_id: the difference.
        role: the key of the role; None for the role of the account.
        confirm: the name of the account, typed, where the user would get more than that role.

    Raises:
        NotFound.
        InvalidInput: if the account is linked or inactive, or its role is not known.
        AlreadyExists: if a user has the same user name or email address: link that user instead.
        NeedsConfirmation: if rules or assignments for everyone would give the user more roles.
    """
    now = clock.now()
    source = local_source(ctx)
    with ctx.database.reading() as connection:
        application = application_by_key(connection, key)
        row = rows_of(connection, application.id, [drift_id])[0]
        there = _check_unlinked(row)
        given = role_by_key(connection, application, role or _role_there(connection, application, there))
        # Later plans must know this role.
        catalogue = ctx.catalogue.get(connection)
        serious = _serious(connection, catalogue, given)
    assignment_id = new_id()

    def direct(user_id: str) -> Sequence[Assignment]:
        return (Assignment(assignment_id, application.id, given.id, user_id),)

    data = _user(there)
    more = _more(catalogue, UserRecord("new", source, LOCAL, data, "new"), direct("new"), now)
    if (more or serious) and confirm != row.name:
        # Otherwise an administrator of that application could create a user that a rule for another
        # application matches.
        raise NeedsConfirmation(
            serious or f"The user would also get: {', '.join(more)}.",
            f"Check the roles, then type '{row.name}' to confirm.",
            "confirm",
        )

    def write(connection: Connection, user_id: str) -> None:
        assignment = {
            "id": assignment_id,
            "application_id": application.id,
            "role_id": given.id,
            "user_id": user_id,
            "created_at": now,
            "created_by": caller.name,
            "note": f"Found as '{row.name}' in {application.label}",
        }
        assignment_rows.insert_assignment(connection, assignment)
        raise_revision(connection)
        account = task_rows.account_of_user(connection, application.id, user_id)
        if account is not None:
            bind(connection, application.id, account.id, row.remote_id or "")
            reopen(connection, account.id, now)
        drift_rows.delete_drift(connection, [row.id])
        event = AuditEvent(
            "created user for account",
            "application",
            application.id,
            details={"application": key, "role": given.key, "remote_id": row.remote_id},
            personal={"user": row.name},
        )
        record_change(connection, ctx.keys, caller, now, event)

    return CreatedUser(local_users.take_in(ctx, caller, data, direct, write))


def check_settles_itself(
    ctx: AppContext, connection: Connection, application: Application, row: StoredDrift, *, creates: bool
) -> str:
    """Return the role of a found account, if its user can get it without a confirmation.

    Args:
        creates: whether a user would be created, who must get nothing else.

    Raises:
        InvalidInput: if the account has no known role, or several; NeedsConfirmation.
    """
    there = _check_unlinked(row)
    role = role_by_key(connection, application, _role_there(connection, application, there))
    catalogue = ctx.catalogue.get(connection)
    hint = "Check the account, then link it or create the user for it."
    if serious := _serious(connection, catalogue, role):
        raise NeedsConfirmation(serious, hint)
    if creates:
        direct = (Assignment("new", application.id, role.id, "new"),)
        record = UserRecord("new", local_source(ctx), LOCAL, _user(there), "new")
        if more := _more(catalogue, record, direct, clock.now()):
            raise NeedsConfirmation(f"The user would also get: {', '.join(more)}.", hint)
    return role.key


def _serious(connection: Connection, catalogue: ConfigSnapshot, role: StoredRole) -> str:
    """Return why giving one user a role needs a confirmation, or ""."""
    if catalogue.highest.get(role.application_id) != role.id:
        return ""
    least = settings.read(connection)["highest_role_confirmation"]
    return f"The account has the highest role, '{role.label}'." if least <= 1 else ""


def _check_unlinked(row: StoredDrift) -> dict[str, Any]:
    """Return the account of a difference, if a user can be created for it."""
    if row.kind != UNEXPECTED:
        raise InvalidInput(
            f"'{row.name}' is linked to a user already.", "Repair the difference, or ignore it."
        )
    there = row.there or {}
    if there.get("active") is False:
        raise InvalidInput(
            f"The account '{row.name}' is inactive.",
            "Activate the account in the application first, or ignore it.",
        )
    return there


def _more(
    catalogue: ConfigSnapshot, record: UserRecord, direct: Sequence[Assignment], now: Instant
) -> list[str]:
    """Return what a user would get beside the assignment, in words."""
    outcome = plan_user(UserSnapshot("new", None, (record,), direct=tuple(direct)), catalogue, now)
    own = {(each.application_id, each.role_id) for each in direct}
    return [
        f"{catalogue.roles[each.role_id].label} in {catalogue.applications[each.application_id].label} "
        f"({', '.join(map(named, each.reasons))})"
        for each in outcome.access
        if (each.application_id, each.role_id) not in own
    ]


def _role_there(connection: Connection, application: Application, there: dict[str, Any]) -> str:
    """Return the key of the account's only role.

    Raises:
        InvalidInput: if it has no known role, or several.
    """
    roles = application_rows.values_of_roles(connection, application.id)
    key_of = {value: key for key, value in roles.items()}
    values = [each.get("value") if isinstance(each, dict) else each for each in there.get("roles") or []]
    known = [key_of[value] for value in values if isinstance(value, str) and value in key_of]
    if len(known) != 1:
        what = "several roles" if known else "no known role"
        raise InvalidInput(
            f"The account has {what}.", f"Choose the role of the user: {', '.join(sorted(roles))}.", "role"
        )
    return known[0]


def _user(there: dict[str, Any]) -> dict[str, Any]:
    """Return the user that an account describes, as an operator would enter it."""
    name = there.get("name") if isinstance(there.get("name"), dict) else {}
    emails = [each for each in there.get("emails") or [] if isinstance(each, dict) and each.get("value")]
    email = next((each for each in emails if each.get("primary")), emails[0] if emails else {})
    enterprise = there.get(ENTERPRISE_URN) if isinstance(there.get(ENTERPRISE_URN), dict) else {}
    return local_users.read(
        {
            "user_name": there.get("userName"),
            "display_name": there.get("displayName"),
            "email": email.get("value"),
            "title": there.get("title"),
            "given_name": (name or {}).get("givenName"),
            "family_name": (name or {}).get("familyName"),
            "department": (enterprise or {}).get("department"),
        }
    )
