"""Local users, entered by operators.

They go through ingest like all users, as records of the organization.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from typing import Any

from sqlalchemy import Connection

from dravo.core.access.types import Assignment
from dravo.core.errors import AlreadyExists, InvalidInput, NotFound, NotPermitted
from dravo.core.identity import local_fields
from dravo.core.identity.local_fields import LocalFields
from dravo.core.identity.names import fold
from dravo.core.identity.records import LOCAL, UserRecord, searchable
from dravo.core.planning import with_record
from dravo.core.scim.errors import ScimError
from dravo.core.scim.resources import read_resource
from dravo.core.scim.schemas import STANDARD
from dravo.services import settings
from dravo.services.changes import preview as changes_preview
from dravo.services.changes.preview import UNCONFIRMED, Confirmation, PlannedChange, Preview
from dravo.services.context import AppContext
from dravo.services.ingest.intake import Intake
from dravo.services.ingest.local.source import local_source
from dravo.services.ingest.types import IngestChange, IngestOptions
from dravo.services.lookups import find_user
from dravo.services.security.audit_log import AuditEvent, record_change
from dravo.services.security.permissions import Caller
from dravo.store import clock, memberships, records
from dravo.store.local import invitations
from dravo.store.plan_writer import ConfirmedRemovals
from dravo.store.queries import users as user_queries
from dravo.store.queries.users import User
from dravo.store.records import StoredRecord

EMAIL = re.compile(r"[^@\s]+@[^@\s]+")


def add(ctx: AppContext, caller: Caller, given: Mapping[str, Any]) -> str:
    """Create a local user; return the user's ID.

    Args:
        given: values of `LocalFields` by name; at least the user name. The manager by any name that
            `find_user` accepts.

    Raises:
        InvalidInput.
        AlreadyExists: if a user has the same user name or email address.
    """
    with ctx.database.reading() as connection:
        given = _with_manager(connection, given)
    return take_in(ctx, caller, read(given))


def take_in(
    ctx: AppContext,
    caller: Caller,
    data: dict[str, Any],
    direct: Callable[[str], Sequence[Assignment]] = lambda _: (),
    also: Callable[[Connection, str], None] = lambda *_: None,
) -> str:
    """Ingest a new local user; return the user's ID.

    Args:
        data: a SCIM User as `read` returns it.
        direct: returns the assignments to create with the user, by user ID.
        also: is called in the same transaction, with the connection and the user's ID.

    Raises:
        AlreadyExists, NotPermitted: as `add`.
    """
    source = local_source(ctx)
    made: list[str] = []

    def writes(done: IngestChange) -> Callable[[Connection], None]:
        made[:] = [done.outcomes[0].user.user_id]

        def write(connection: Connection) -> None:
            _check_free(connection, data, made[0])
            also(connection, made[0])
            record_change(
                connection,
                ctx.keys,
                caller,
                clock.now(),
                AuditEvent(
                    "created user", "user", made[0], details={}, personal={"user_name": data["userName"]}
                ),
            )

        return write

    with ctx.database.reading() as connection:
        check_allowed(connection)
        _check_free(connection, data, "")
    try:
        Intake(ctx.database, ctx.catalogue, LOCAL).create_user(
            source, data, IngestOptions(trace=writes), direct
        )
    except ScimError as wrong:
        # Another operator created the same user at the same moment.
        raise AlreadyExists(wrong.detail, "Use the existing user.", "user_name") from None
    return made[0]


def check_allowed(connection: Connection) -> None:
    """Check that the organization has local users, for an operator who creates some.

    Raises:
        NotPermitted.
    """
    if not settings.read(connection)["local_users"]:
        raise NotPermitted(
            "Local users are disabled.",
            "Create the user at the source, or enable local users under Settings.",
        )


def change(
    ctx: AppContext, caller: Caller, user: str, given: Mapping[str, Any], sure: Confirmation = UNCONFIRMED
) -> str:
    """Replace the attributes of a local user; return the user's ID.

    Raises:
        NotFound.
        InvalidInput: for a user who is not local.
        AlreadyExists; StalePreview, NeedsConfirmation.
    """
    with ctx.database.reading() as connection:
        data = read(_with_manager(connection, given))
        row, record = _record_of(connection, user)
        _check_free(connection, data, row.id)
        cleared = _cleared(
            row, changes_preview.check(connection, _planned(ctx, connection, row, record, data), caller, sure)
        )

    def writes(_: IngestChange) -> Callable[[Connection], None]:
        def write(connection: Connection) -> None:
            _check_free(connection, data, row.id)
            record_change(
                connection,
                ctx.keys,
                caller,
                clock.now(),
                AuditEvent(
                    "changed user", "user", row.id, details={}, personal={"user_name": data["userName"]}
                ),
            )

        return write

    Intake(ctx.database, ctx.catalogue, LOCAL).replace_user(
        record.source_id, record.id, data, IngestOptions(trace=writes, cleared=cleared)
    )
    return str(row.id)


def remove(
    ctx: AppContext,
    caller: Caller,
    user: str,
    sure: Confirmation = UNCONFIRMED,
    also: Callable[[Connection], None] = lambda _: None,
) -> None:
    """Mark a local user as left; access and accounts end as for any leaver.

    Args:
        also: is called in the same transaction; what it raises prevents the removal.

    Raises:
        NotFound, InvalidInput; StalePreview, NeedsConfirmation.
    """
    with ctx.database.reading() as connection:
        row, record = _record_of(connection, user)
        planned = _planned(ctx, connection, row, record, None)
        cleared = changes_preview.check(connection, planned, caller, sure)
    remove_record(ctx, caller, row, record, cleared, also)


def remove_record(
    ctx: AppContext,
    caller: Caller,
    row: User,
    record: StoredRecord,
    confirmed: tuple[str, str] | None,
    also: Callable[[Connection], None] = lambda _: None,
) -> None:
    """Remove the record of a local user, who leaves.

    Args:
        confirmed: as `preview.check` returns it.
        also: as in `remove`.
    """

    def writes(_: IngestChange) -> Callable[[Connection], None]:
        def write(connection: Connection) -> None:
            also(connection)
            invitations.close_of_user(connection, row.id, clock.now())
            personal = {"user_name": row.user_name}
            event = AuditEvent("marked user as left", "user", row.id, details={}, personal=personal)
            record_change(connection, ctx.keys, caller, clock.now(), event)

        return write

    Intake(ctx.database, ctx.catalogue, LOCAL).remove_user(
        record.source_id, record.id, IngestOptions(trace=writes, cleared=_cleared(row, confirmed))
    )


def preview(ctx: AppContext, user: str, given: Mapping[str, Any] | None) -> Preview:
    """Return the effects of `change`, or with None of `remove`; nothing is changed."""
    with ctx.database.reading() as connection:
        data = read(_with_manager(connection, given)) if given is not None else None
        row, record = _record_of(connection, user)
        return changes_preview.shown(connection, _planned(ctx, connection, row, record, data))


def _cleared(row: User, confirmed: tuple[str, str] | None) -> ConfirmedRemovals:
    """Return which removals need not wait for the removal limit: those of this user, where that was
    confirmed.
    """
    return {(row.id, confirmed[0]): confirmed[1]} if confirmed else {}


def _planned(
    ctx: AppContext, connection: Connection, row: User, record: StoredRecord, data: dict[str, Any] | None
) -> PlannedChange:
    then = UserRecord(
        record.id, record.source_id, LOCAL, data if data is not None else record.data, row.id, data is None
    )
    only = memberships.some_users([row.id])
    return PlannedChange(
        None, (only,), ctx.catalogue.get(connection), lambda user: with_record(user, then), row.display_name
    )


def fields_of(ctx: AppContext, user: str) -> LocalFields:
    """Return the attributes of a local user as fields.

    Raises:
        NotFound; InvalidInput: for a user who is not local.
    """
    with ctx.database.reading() as connection:
        return local_fields.from_resource(_record_of(connection, user)[1].data)


def read(given: Mapping[str, Any]) -> dict[str, Any]:
    """Return a SCIM User out of the fields that an operator fills in.

    Args:
        given: values of `LocalFields` by name; the manager as the ID of a user.

    Raises:
        InvalidInput: if the user name is missing, or a value cannot be used.
    """
    wish = local_fields.fields_given(given)
    if not wish.user_name:
        raise InvalidInput(
            "The user name is missing.", "Set `user_name` to the name that applications use.", "user_name"
        )
    if wish.email and not EMAIL.fullmatch(wish.email):
        raise InvalidInput(
            f"'{wish.email}' is not an email address.",
            "Enter an address such as name@fernhollow.example, or leave it empty.",
            "email",
        )
    try:
        return {
            **read_resource(local_fields.as_resource(wish), STANDARD.user),
            "active": wish.active,
        }
    except ScimError as wrong:
        raise InvalidInput(wrong.detail, "Correct this value.") from None


def _with_manager(connection: Connection, given: Mapping[str, Any]) -> Mapping[str, Any]:
    """Return the fields with the manager by ID.

    Raises:
        InvalidInput: for a manager who is no user.
    """
    name = str(given.get("manager") or "").strip()
    if not name:
        return given
    try:
        return {**given, "manager": find_user(connection, name).id}
    except NotFound:
        raise InvalidInput(
            f"There is no user '{name}'.", "Enter the user name of the manager, or leave it empty.", "manager"
        ) from None


def _record_of(connection: Connection, user: str) -> tuple[User, StoredRecord]:
    """Return the row of a user, and of the user's local record."""
    row = find_user(connection, user)
    return row, local_record(connection, row)


def local_record(connection: Connection, row: User) -> StoredRecord:
    """Return the local record of a user.

    Raises:
        InvalidInput: for a user who is not local.
    """
    record = records.of_user(connection, row.id, LOCAL)
    if record is None:
        sources = ", ".join(
            dict.fromkeys(
                each.source.label
                for each in user_queries.records_of(connection, row.id)
                if each.deleted_at is None
            )
        )
        known = f"is reported by {sources}" if sources else "has left"
        raise InvalidInput(
            f"{row.display_name} {known} and is not a local user.", "Change the user at the source.", "user"
        )
    return record


def _check_free(connection: Connection, data: Mapping[str, Any], own_id: str) -> None:
    """Check that no other user has a user name or email address: a user of a source is not created a second
    time.
    """
    found = searchable(data)
    email_key = fold(found.email) if found.email else None
    other = user_queries.other_with_name(connection, found.user_name_key, email_key, own_id)
    if other is not None:
        raise AlreadyExists(
            f"{other.display_name} has the same user name or email address.",
            f"If it is the same user, use the existing user {other.id}.",
            "user_name",
        )
