"""Roles of applications: created, changed and deleted."""

from __future__ import annotations

from typing import Any

from sqlalchemy import delete, insert, select, update
from sqlalchemy.exc import IntegrityError

from dravo.core.errors import AlreadyExists, StillInUse
from dravo.services.access import rule_matches
from dravo.services.changes.recompute import USERS_PER_CHUNK, process_marks
from dravo.services.context import AppContext
from dravo.services.lookups import application_by_key, check_key, check_label, role_by_key
from dravo.services.provisioning.applications import (
    mark_everyone_with_an_account,
    mark_those_in_patterns,
    one,
)
from dravo.services.security.audit_log import record_change
from dravo.services.security.permissions import Caller
from dravo.store import clock
from dravo.store import tables as t
from dravo.store.ids import new_id
from dravo.store.snapshots.config import raise_revision

# Roles


def add_role(
    ctx: AppContext, caller: Caller, key: str, role_key: str, label: str, rank: int
) -> dict[str, Any]:
    """Add a role; a higher rank may do more.

    Raises:
        InvalidInput, NotFound, AlreadyExists.
    """
    now = clock.now()
    row = {"id": new_id(), "key": check_key(role_key), "label": check_label(label), "rank": rank}
    try:
        with ctx.database.writing() as connection:
            application = application_by_key(connection, key)
            connection.execute(insert(t.role).values(application_id=application.id, **row))
            raise_revision(connection)
            rule_matches.confirm_present(connection, application.id)
            mark_those_in_patterns(connection, application.id)
            record_change(
                connection,
                ctx.keys,
                caller,
                "created role",
                "application",
                application.id,
                now,
                {"application": key, "role": role_key, "rank": rank},
            )
    except IntegrityError:
        raise AlreadyExists(
            f"'{key}' has a role '{role_key}' already.", "Choose another key.", "key"
        ) from None
    return one(ctx, key)


def change_role(
    ctx: AppContext, caller: Caller, key: str, role_key: str, label: str | None, rank: int | None
) -> dict[str, Any]:
    """Give a role another label or rank; its key stays."""
    values: dict[str, Any] = {}
    if label is not None:
        values["label"] = check_label(label)
    if rank is not None:
        values["rank"] = rank
    with ctx.database.writing() as connection:
        application = application_by_key(connection, key)
        role = role_by_key(connection, application, role_key)
        if values:
            connection.execute(update(t.role).where(t.role.c.id == role.id).values(**values))
            raise_revision(connection)
            rule_matches.confirm_present(connection, application.id)
            mark_everyone_with_an_account(connection, application.id)
            mark_those_in_patterns(connection, application.id)
            record_change(
                connection,
                ctx.keys,
                caller,
                "changed role",
                "application",
                application.id,
                clock.now(),
                {"application": key, "role": role_key, "after": values},
            )
    process_marks(ctx, USERS_PER_CHUNK)
    return one(ctx, key)


def remove_role(ctx: AppContext, caller: Caller, key: str, role_key: str) -> dict[str, Any]:
    """Remove a role that was never given.

    Raises:
        StillInUse: if an assignment gives it, or a user had it.
    """
    with ctx.database.writing() as connection:
        application = application_by_key(connection, key)
        role = role_by_key(connection, application, role_key)
        for table in (t.assignment, t.access):
            if connection.execute(select(table.c.id).where(table.c.role_id == role.id).limit(1)).first():
                raise StillInUse(
                    f"'{role.label}' is used by an assignment, or was.",
                    "Delete its assignments instead. Dravo keeps the role for the history.",
                )
        if application.default_role_id == role.id:
            raise StillInUse(f"'{role.label}' is the fallback role.", "Choose another fallback role first.")
        connection.execute(delete(t.role).where(t.role.c.id == role.id))
        rule_matches.confirm_present(connection, application.id)
        raise_revision(connection)
        record_change(
            connection,
            ctx.keys,
            caller,
            "deleted role",
            "application",
            application.id,
            clock.now(),
            {"application": key, "role": role_key},
        )
    return one(ctx, key)
