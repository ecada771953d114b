"""Roles of applications: created, changed and deleted."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

from sqlalchemy import Connection
from sqlalchemy.exc import IntegrityError

from dravo.core.errors import AlreadyExists, StillInUse
from dravo.core.plan_types import Role
from dravo.core.provisioning.attribute_mapping import GROUPS, RoleEncoding
from dravo.services.applications.applications import (
    ApplicationDetail,
    one,
)
from dravo.services.changes import preview as changes_preview
from dravo.services.changes.effects import ChangeEffects
from dravo.services.changes.preview import UNCONFIRMED, Confirmation, PlannedChange
from dravo.services.changes.recompute import USERS_PER_CHUNK, process_marks
from dravo.services.context import AppContext
from dravo.services.lookups import (
    application_by_key,
    check_description,
    check_key,
    check_label,
    check_sent_value,
    check_value_is_free,
    role_by_key,
)
from dravo.services.security.audit_log import AuditEvent, record_change
from dravo.services.security.permissions import Caller
from dravo.store import clock, memberships, provisioned_groups
from dravo.store.access import assignments as stored_assignments
from dravo.store.access import requests as access_requests
from dravo.store.ids import new_id
from dravo.store.provisioning import applications as stored
from dravo.store.queries import applications as application_rows
from dravo.store.queries.applications import Application, StoredRole
from dravo.store.snapshots.config import load, raise_revision, revision

# What of a role decides about access, or is sent.
PLANNED = frozenset({"label", "rank", "sent_value"})


@dataclass(frozen=True)
class RoleEdit:
    """New values of a role; None keeps a value.

    Attributes:
        sent_value: what is sent to the application for the role, such as a URN; "" for the key.
        description: what the role permits; "" removes it.
    """

    label: str | None = None
    rank: int | None = None
    sent_value: str | None = None
    description: str | None = None

    def values(self) -> dict[str, Any]:
        """Return the columns that change.

        Raises:
            InvalidInput: for a label that is empty, or a text that is too long.
        """
        values: dict[str, Any] = {}
        if self.label is not None:
            values["label"] = check_label(self.label)
        if self.rank is not None:
            values["rank"] = self.rank
        if self.sent_value is not None:
            values["sent_value"] = check_sent_value(self.sent_value)
        if self.description is not None:
            values["description"] = check_description(self.description)
        return values


def _check_value(
    connection: Connection, application: Application, role_key: str, sent_value: str | None
) -> None:
    values = application_rows.values_of_roles(connection, application.id)
    check_value_is_free(values, role_key, sent_value, "role")


def add_role(ctx: AppContext, caller: Caller, key: str, role_key: str, edit: RoleEdit) -> ApplicationDetail:
    """Add a role; a higher rank may do more.

    Args:
        role_key: the key, which never changes.
        edit: its other values; without a rank it is 1.

    Raises:
        InvalidInput, NotFound, AlreadyExists.
    """
    now = clock.now()
    row: dict[str, Any] = {
        "id": new_id(),
        "key": check_key(role_key),
        "label": check_label(edit.label or ""),
        "rank": 1,
    }
    row |= edit.values()
    try:
        with ctx.database.writing() as connection:
            application = application_by_key(connection, key)
            _check_value(connection, application, row["key"], row.get("sent_value"))
            stored.insert_role(connection, {"application_id": application.id, **row})
            raise_revision(connection)
            stored_assignments.confirm_present_users(connection, application.id)
            stored.mark_users_in_patterns(connection, application.id, now, None)
            record_change(
                connection,
                ctx.keys,
                caller,
                now,
                AuditEvent(
                    "created role",
                    "application",
                    application.id,
                    details={"application": key, "role": role_key, "rank": row["rank"]},
                ),
            )
    except IntegrityError:
        raise AlreadyExists(
            f"'{key}' has a role '{role_key}' already.", "Choose another key.", "key"
        ) from None
    return one(ctx, key)


def preview_change(ctx: AppContext, key: str, role_key: str, edit: RoleEdit) -> ChangeEffects:
    """Return the effects of other values of a role; nothing is changed.

    Raises:
        InvalidInput, NotFound.
    """
    effects = ChangeEffects()
    with ctx.database.reading() as connection:
        application = application_by_key(connection, key)
        role = role_by_key(connection, application, role_key)
        changed = {name: value for name, value in edit.values().items() if getattr(role, name) != value}
        if "label" in changed:
            effects.add(f"The role '{role.label}' is called '{changed['label']}'.")
        if "sent_value" in changed:
            _check_value(connection, application, role.key, changed["sent_value"])
        how = RoleEncoding(**(application.role_encoding or {}))
        before = how.sent_for(role.key, role.label, role.sent_value)
        after = how.sent_for(
            role.key, changed.get("label", role.label), changed.get("sent_value", role.sent_value)
        )
        if before != after:
            effects.add(
                f"The group of the role is called '{after}' instead of '{before}'."
                if how.way == GROUPS
                else f"Dravo sends '{after}' for the role instead of '{before}'."
            )
        if changed.keys() & PLANNED:
            effects.add_access(connection, _planned(connection, application, role, changed))
    return effects


def _planned(
    connection: Connection, application: Application, role: StoredRole, changed: dict[str, Any]
) -> PlannedChange:
    """Plan a changed role. Its rank may decide which role is the highest, also for name patterns."""
    new = Role(
        role.key,
        changed.get("label", role.label),
        changed.get("rank", role.rank),
        role.id,
        application.id,
        sent_value=changed.get("sent_value", role.sent_value),
    )
    then = load(connection, revision(connection), {role.id: new})
    # As the change confirms them: the users with the role that is then the highest keep it.
    top = then.highest.get(application.id)
    present = stored_assignments.users_with_role(connection, top) if top is not None else frozenset()
    general = tuple(
        replace(each, only=present)
        if each.roles_of is not None and each.application_id == application.id
        else each
        for each in then.general
    )
    then = replace(then, general=general)
    return PlannedChange(application.id, (memberships.everyone(),), then)


def change_role(
    ctx: AppContext,
    caller: Caller,
    key: str,
    role_key: str,
    edit: RoleEdit,
    sure: Confirmation = UNCONFIRMED,
) -> ApplicationDetail:
    """Change the label, rank, value or description of a role; its key stays.

    Raises:
        InvalidInput, NotFound; NeedsConfirmation, StalePreview.
    """
    values, now = edit.values(), clock.now()
    with ctx.database.reading() as connection:
        application = application_by_key(connection, key)
        role = role_by_key(connection, application, role_key)
        cleared = None
        if any(name in PLANNED and value != getattr(role, name) for name, value in values.items()):
            # The rank may make it the highest role; label and value are texts that patterns capture.
            planned = _planned(connection, application, role, values)
            cleared = changes_preview.check(connection, planned, caller, sure)
    with ctx.database.writing() as connection:
        application = application_by_key(connection, key)
        role = role_by_key(connection, application, role_key)
        if "sent_value" in values:
            _check_value(connection, application, role.key, values["sent_value"])
        values = {name: value for name, value in values.items() if getattr(role, name) != value}
        if values:
            stored.update_role(connection, role.id, **values)
            if values.keys() & PLANNED:
                raise_revision(connection)
                stored_assignments.confirm_present_users(connection, application.id)
                stored.mark_everyone_with_an_account(connection, application.id, now, cleared)
                stored.mark_users_in_patterns(connection, application.id, now, cleared)
                provisioned_groups.wake_role(connection, role.id, now)
            record_change(
                connection,
                ctx.keys,
                caller,
                clock.now(),
                AuditEvent(
                    "changed role",
                    "application",
                    application.id,
                    details={"application": key, "role": role_key, "after": values},
                ),
            )
    process_marks(ctx, USERS_PER_CHUNK)
    return one(ctx, key)


def remove_role(ctx: AppContext, caller: Caller, key: str, role_key: str) -> ApplicationDetail:
    """Delete a role that was never assigned.

    Raises:
        StillInUse: if an assignment gives the role, or a user had it.
    """
    with ctx.database.writing() as connection:
        application = application_by_key(connection, key)
        role = role_by_key(connection, application, role_key)
        if stored.role_was_used(connection, role.id):
            raise StillInUse(
                f"'{role.label}' is used by an assignment, or was.",
                "Delete its assignments instead. Dravo keeps the role for the history.",
            )
        if application.default_role_id == role.id:
            raise StillInUse(f"'{role.label}' is the fallback role.", "Choose another fallback role first.")
        access_requests.forget_role(connection, role.id)
        stored.delete_role(connection, role.id)
        stored_assignments.confirm_present_users(connection, application.id)
        raise_revision(connection)
        record_change(
            connection,
            ctx.keys,
            caller,
            clock.now(),
            AuditEvent(
                "deleted role", "application", application.id, details={"application": key, "role": role_key}
            ),
        )
    return one(ctx, key)
