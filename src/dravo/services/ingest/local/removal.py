"""Deletion of several local users: each leaves, and access and accounts end as for any leaver."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from sqlalchemy import Connection

from dravo.core.errors import InvalidInput
from dravo.core.identity.records import LOCAL, UserRecord
from dravo.core.plan_types import UserSnapshot
from dravo.core.planning import with_record
from dravo.services import jobs
from dravo.services.changes import preview as changes_preview
from dravo.services.changes.preview import UNCONFIRMED, Confirmation, PlannedChange, Preview
from dravo.services.context import AppContext
from dravo.services.ingest.local import users as local_users
from dravo.services.lookups import find_users
from dravo.services.security.permissions import Caller
from dravo.store import memberships
from dravo.store.queries.users import User
from dravo.store.records import StoredRecord

MOST_USERS = 500


@dataclass(frozen=True)
class RemovalResult:
    """The number of deleted users."""

    users: int


def preview(ctx: AppContext, names: Sequence[str]) -> Preview:
    """Return the effects of `remove`; nothing is changed.

    Raises:
        NotFound; InvalidInput: for a user who is not local, or too many users.
    """
    with ctx.database.reading() as connection:
        return changes_preview.shown(connection, _planned(ctx, connection, _found(connection, names)))


def remove(
    ctx: AppContext, caller: Caller, names: Sequence[str], sure: Confirmation = UNCONFIRMED
) -> RemovalResult:
    """Delete several local users.

    Raises:
        NotFound, InvalidInput: as `preview`; StalePreview, NeedsConfirmation.
    """
    with ctx.database.reading() as connection:
        found = _found(connection, names)
        cleared = changes_preview.check(connection, _planned(ctx, connection, found), caller, sure)
    for number, (user, record) in enumerate(found, 1):
        local_users.remove_record(ctx, caller, user, record, cleared)
        try:
            jobs.report_progress(number, len(found))
        except jobs.JobStopped:
            # What was done stays: the number tells how far it came.
            return RemovalResult(number)
    return RemovalResult(len(found))


def _found(connection: Connection, names: Sequence[str]) -> list[tuple[User, StoredRecord]]:
    if not 0 < len(names) <= MOST_USERS:
        raise InvalidInput(
            f"The request names {len(names):,} users.", f"Name 1 to {MOST_USERS} users.", "users"
        )
    users = {user.id: user for user in find_users(connection, names)}
    return [(user, local_users.local_record(connection, user)) for user in users.values()]


def _planned(
    ctx: AppContext, connection: Connection, found: Sequence[tuple[User, StoredRecord]]
) -> PlannedChange:
    gone = {
        user.id: UserRecord(record.id, record.source_id, LOCAL, record.data, user.id, gone=True)
        for user, record in found
    }

    def then(user: UserSnapshot) -> UserSnapshot:
        return with_record(user, gone[user.user_id])

    name = found[0][0].display_name if len(found) == 1 else f"{len(found)} users"
    touched = (memberships.some_users([user.id for user, _ in found]),)
    return PlannedChange(None, touched, ctx.catalogue.get(connection), then, name)
