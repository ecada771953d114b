"""Retires a source: its users are handled as leavers, and its tokens and connections end."""

from __future__ import annotations

from dataclasses import dataclass, replace

from sqlalchemy import Connection

from dravo.core.errors import InvalidInput, StillInUse
from dravo.core.plan_types import UserSnapshot
from dravo.services.changes.effects import ChangeEffects, count
from dravo.services.changes.preview import UNCONFIRMED, Confirmation, PlannedChange, check, shown
from dravo.services.changes.recompute import USERS_PER_CHUNK, process_marks
from dravo.services.context import AppContext
from dravo.services.lookups import pushing_source
from dravo.services.security.audit_log import AuditEvent, record_change
from dravo.services.security.permissions import Caller
from dravo.store import clock, provisioned_groups, recompute_marks
from dravo.store.plan_writer import EVERY_APPLICATION
from dravo.store.queries import runs as run_queries
from dravo.store.sign_in import sessions as session_rows
from dravo.store.snapshots.config import raise_revision
from dravo.store.sources import retirement as stored
from dravo.store.sources import settings as source_settings
from dravo.store.sources.sources import Source


@dataclass(frozen=True)
class RetiredSource:
    """A source after it was retired or restored; `users` is the number of users that it reported."""

    key: str
    users: int


def retire(ctx: AppContext, caller: Caller, key: str, sure: Confirmation = UNCONFIRMED) -> RetiredSource:
    """Retire a source; many users are recomputed by the worker.

    Raises:
        NotFound; InvalidInput: if it is retired already; StillInUse: if an import runs, or if operators sign
            in through it; NeedsConfirmation: without the label of the source; StalePreview.
    """
    now = clock.now()
    with ctx.database.reading() as connection:
        source = _checked(connection, key)
        change = _planned(ctx, connection, source)
        check(connection, change, caller, sure)
    with ctx.database.writing() as connection:
        source = _checked(connection, key)
        users = stored.number_of_users(connection, source.id)
        groups = stored.present_groups(connection, source.id)
        stored.retire(connection, source.id, now)
        session_rows.delete_of_source(connection, source.id)
        _finish(ctx, connection, caller, source, groups, "retired source")
    ctx.token_revision += 1
    process_marks(ctx, USERS_PER_CHUNK)
    return RetiredSource(key, users)


def restore(ctx: AppContext, caller: Caller, key: str) -> RetiredSource:
    """Restore a retired source: its users, groups and memberships return, its connections stay disabled.

    Raises:
        NotFound; InvalidInput: if it is not retired.
    """
    with ctx.database.writing() as connection:
        source = pushing_source(connection, key)
        if source.retired_at is None:
            raise InvalidInput(f"'{source.label}' is not retired.", "Only retired sources can be restored.")
        stored.restore(connection, source.id, source.retired_at)
        groups = stored.present_groups(connection, source.id)
        _finish(ctx, connection, caller, source, groups, "restored source")
        users = stored.number_of_users(connection, source.id)
    process_marks(ctx, USERS_PER_CHUNK)
    return RetiredSource(key, users)


def preview(ctx: AppContext, key: str) -> ChangeEffects:
    """Return the effects of retiring a source; nothing is changed.

    Raises:
        As `retire`.
    """
    effects = ChangeEffects()
    with ctx.database.reading() as connection:
        source = _checked(connection, key)
        users = stored.number_of_users(connection, source.id)
        leavers = stored.only_here(connection, source.id)
        effects.add(
            f"{count(leavers, 'user becomes a leaver', 'users become leavers')}; "
            f"{count(users - leavers, 'user stays', 'users stay')} through other sources."
        )
        ended = count(len(stored.present_groups(connection, source.id)), "group ends", "groups end")
        effects.add(f"{ended}. Members lose the roles that these groups assign.")
        effects.add("All SCIM tokens of the source are revoked. Its import and its sign-in are disabled.")
        effects.access = shown(connection, _planned(ctx, connection, source))
    return effects


def _checked(connection: Connection, key: str) -> Source:
    source = pushing_source(connection, key)
    if source.retired_at is not None:
        raise InvalidInput(
            f"'{source.label}' is retired already.", "Restore the source, or leave it retired."
        )
    if source_settings.serves_operators(connection, source.id):
        raise StillInUse(f"Operators sign in through '{source.label}'.", "Set `serves` to users first.")
    if run_queries.is_open_for_source(connection, source.id):
        raise StillInUse(
            f"An import run of '{source.label}' is in progress.", "Wait for its end, or stop it."
        )
    return source


def _planned(ctx: AppContext, connection: Connection, source: Source) -> PlannedChange:
    groups = frozenset(stored.present_groups(connection, source.id))

    def without_source(user: UserSnapshot) -> UserSnapshot:
        records = tuple(
            replace(each, gone=True) if each.source_id == source.id else each for each in user.records
        )
        return replace(
            user, records=records, groups=tuple(each for each in user.groups if each not in groups)
        )

    return PlannedChange(
        None,
        (stored.users_of(source.id),),
        ctx.catalogue.get(connection),
        without_source,
        source.label,
        "Retiring a source ends everything that it reports.",
    )


def _finish(
    ctx: AppContext, connection: Connection, caller: Caller, source: Source, groups: list[str], action: str
) -> None:
    """Mark the users, have the groups be sent again, and write the audit entry."""
    now = clock.now()
    # The typed label confirms the removals.
    recompute_marks.mark_users(connection, stored.users_of(source.id), now, (EVERY_APPLICATION, caller.name))
    provisioned_groups.wake_groups(connection, groups, now)
    raise_revision(connection)
    event = AuditEvent(action, "source", source.id, details={"key": source.key, "groups": len(groups)})
    record_change(connection, ctx.keys, caller, now, event)
