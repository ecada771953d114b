"""Who can sign in through a source, from when; and previews of another status and of other settings."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from sqlalchemy import Connection

from dravo.core.errors import DravoError, InvalidInput
from dravo.core.instants import Instant, later, parse_instant
from dravo.core.plan_types import UserSnapshot
from dravo.services.changes.effects import ChangeEffects, count
from dravo.services.changes.preview import PlannedChange
from dravo.services.changes.removal_limits import NeedsConfirmation
from dravo.services.context import AppContext
from dravo.services.lookups import check_not_retired
from dravo.services.security import operator_sso
from dravo.services.security.audit_log import AuditEvent, record_change
from dravo.services.security.operator_sso import OPERATORS, USERS
from dravo.services.security.permissions import Caller
from dravo.services.sign_in.settings.models import read_settings
from dravo.services.sign_in.settings.settings import (
    DISABLED,
    ENABLED,
    PILOT,
    STATUSES,
    changed_values,
    check_protocol_serves,
    check_serves,
    check_super_administrator,
    missing,
    needs_new_test,
)
from dravo.services.sources.policy import sign_in_of
from dravo.store import clock, memberships
from dravo.store.queries import sign_in as sign_in_queries
from dravo.store.sign_in import sessions as session_rows
from dravo.store.sign_in import settings as sign_in_rows
from dravo.store.sign_in import users as sign_in_users
from dravo.store.sources import settings as source_settings
from dravo.store.sources.settings import SourceSignIn
from dravo.store.sources.sources import Source

DAY = 86_400
MOST_IDLE = 10_000


def set_status(
    ctx: AppContext,
    caller: Caller,
    key: str,
    status: str,
    enabled_from: str | None = None,
    confirm: str | None = None,
) -> None:
    """Change the sign-in status of a source: disabled, pilot, enabled, or enabled from a later time.

    Raises:
        InvalidInput: if a setting is missing.
        NeedsConfirmation: if nobody has signed in with the current settings yet.
        NotFound.
    """
    _check_status(status)
    now = clock.now()
    at = parse_instant(enabled_from, "enabled_from") if enabled_from else None
    if at is not None and at <= now:
        raise InvalidInput(
            "The start time is in the past.", "Enter a future time, or enable sign-in now.", "enabled_from"
        )
    with ctx.database.writing() as connection:
        source, row = sign_in_of(connection, key)
        check_super_administrator(caller, row)
        _check_possible(connection, caller, source, row, status, scheduled=at is not None)
        opens = status != DISABLED or at is not None
        if opens and row.verified_at is None and confirm != source.label:
            hint = f"Run a test sign-in first, or type the name of the source, '{source.label}', to confirm."
            raise NeedsConfirmation("These settings have not been tested yet.", hint, "confirm")
        source_settings.update_sign_in(connection, source.id, status=status, enabled_from=at)
        if status == DISABLED:
            # Sessions that began through the source end.
            session_rows.delete_of_source(connection, source.id)
            operator_sso.end_sessions(connection, source.id)
        details = {"key": key, "before": row.status, "after": status, "enabled_from": at}
        record_change(
            connection,
            ctx.keys,
            caller,
            now,
            AuditEvent("changed sign-in status", "source", source.id, details=details),
        )


def _check_possible(
    connection: Connection,
    caller: Caller,
    source: Source,
    row: SourceSignIn,
    status: str,
    *,
    scheduled: bool = False,
) -> None:
    """Check that a source can get a status: no operator is locked out, and no setting is missing.

    Raises:
        InvalidInput, StillInUse.
    """
    if status != DISABLED or scheduled:
        check_not_retired(source)
    if row.serves != USERS:
        if status == ENABLED or scheduled:
            operator_sso.check_own_way(connection, caller, source.id)
        if status == DISABLED:
            operator_sso.check_nobody_is_locked_out(connection, source.id)
    if status == DISABLED and not scheduled:
        return
    if lacking := missing(connection, row):
        raise InvalidInput(
            f"Missing: {', '.join(lacking)}.", "Enter the values on the Sign-in tab.", "status"
        )
    if status == PILOT and not row.settings.get("pilot"):
        raise InvalidInput(
            "The pilot group is missing.", "Enter the group whose members can sign in.", "pilot"
        )


def apply_scheduled_activation(ctx: AppContext, now: Instant) -> None:
    """Enable sources whose start time has come."""
    with ctx.database.reading() as connection:
        if not sign_in_rows.has_due_activation(connection, now):
            return
    with ctx.database.writing() as connection:
        sign_in_rows.enable_due(connection, now, ENABLED)


def _check_status(status: str) -> None:
    if status not in STATUSES:
        raise InvalidInput(
            f"'{status}' is not a valid status.", f"Use one of: {', '.join(STATUSES)}.", "status"
        )


# Previews


def preview_settings(ctx: AppContext, caller: Caller, key: str, given: dict[str, Any]) -> ChangeEffects:
    """Return the effects of other sign-in settings; nothing is changed, and no metadata is fetched.

    Args:
        ctx: the data folder.
        caller: who would change them.
        key: the key of the source.
        given: as in `settings.change`.

    Raises:
        InvalidInput, NotFound, NotPermitted, StillInUse: as the change itself.
    """
    effects = ChangeEffects()
    serves = given.get("serves")
    with ctx.database.reading() as connection:
        source, row = sign_in_of(connection, key)
        check_super_administrator(caller, row, serves)
        check_protocol_serves(row.protocol, serves)
        before = row.settings
        after = read_settings(row.protocol, {**before, **(given.get("settings") or {})}).model_dump()
        values, details = changed_values(ctx, row.protocol, row, given, after)
        for name in details.get("settings", ()):
            effects.add(f"`{name}`: {_shown(after[name])} (now {_shown(before.get(name))}).")
        if "secret" in details:
            effects.add(f"The client secret is {details['secret']}.")
        if "policy" in details:
            effects.add("The source policy changes.")
        if serves is not None and serves != row.serves:
            check_serves(connection, caller, source, row, serves)
            effects.add(_SERVES[serves])
        replaced = given.get("metadata") is not None or given.get("fields") is not None
        if replaced:
            effects.add("The values of the provider are replaced.")
        if replaced or needs_new_test(values, details):
            effects.add("The settings need a new test sign-in, or the label of the source to confirm them.")
        if "claim_days" in details.get("settings", ()) and after["claim_days"]:
            _preview_claim_age(ctx, connection, source.id, after["claim_days"], effects)
        if "inactive_days" in details.get("settings", ()) and after["inactive_days"]:
            _preview_idle(ctx, connection, source.id, after["inactive_days"], effects)
    return effects


_SERVES = {
    USERS: "Only users can sign in. Sessions of operators through this source end.",
    OPERATORS: "Only operators can sign in. Users who sign in only here are locked out.",
    "both": "Users and operators can sign in.",
}


def _shown(value: Any) -> str:
    if isinstance(value, bool):
        return "on" if value else "off"
    if isinstance(value, int):
        return f"{value:,}"
    return "empty" if value in (None, "") else f"'{value}'"


def _preview_claim_age(
    ctx: AppContext, connection: Connection, source_id: str, days: int, effects: ChangeEffects
) -> None:
    """Memberships from claims that are too old end at the next daily run."""
    before = later(clock.now(), -DAY * days)
    ending = sign_in_queries.groups_by_claims_before(connection, source_id, before)
    number = sum(len(groups) for groups in ending.values())
    effects.add(
        f"{count(number, 'membership', 'memberships')} of {count(len(ending), 'user', 'users')} "
        f"{'expires' if number == 1 else 'expire'}: the last sign-in was more than "
        f"{count(days, 'day', 'days')} ago."
    )
    if not number:
        return

    def without(user: UserSnapshot) -> UserSnapshot:
        lost = ending.get(user.user_id, frozenset())
        return replace(user, groups=tuple(each for each in user.groups if each not in lost))

    users = sign_in_queries.users_with_claims_before(source_id, before)
    effects.add_access(connection, PlannedChange(None, (users,), ctx.catalogue.get(connection), without))


def _preview_idle(
    ctx: AppContext, connection: Connection, source_id: str, days: int, effects: ChangeEffects
) -> None:
    """Users without sign-in for so many days become inactive at the next daily run."""
    before = later(clock.now(), -DAY * days)
    if not sign_in_users.has_signed_in_since(connection, source_id, before):
        effects.add(f"Nobody signed in within {count(days, 'day', 'days')}, so nobody becomes inactive.")
        return
    idle = sign_in_users.idle_records(connection, source_id, before, MOST_IDLE)
    at_least = "At least " if len(idle) == MOST_IDLE else ""
    effects.add(
        f"{at_least}{count(len(idle), 'user becomes', 'users become')} inactive, unless other sources report "
        "them as active. The next sign-in activates a user again."
    )
    ids = {each.id for each in idle}

    def without(user: UserSnapshot) -> UserSnapshot:
        records = tuple(
            replace(each, data={**each.data, "active": False}) if each.id in ids else each
            for each in user.records
        )
        return replace(user, records=records)

    users = memberships.some_users([each.user_id for each in idle])
    effects.add_access(connection, PlannedChange(None, (users,), ctx.catalogue.get(connection), without))


def preview_status(ctx: AppContext, caller: Caller, key: str, status: str) -> ChangeEffects:
    """Return the effects of another sign-in status; nothing is changed.

    Raises:
        InvalidInput, NotFound.
    """
    _check_status(status)
    effects = ChangeEffects()
    with ctx.database.reading() as connection:
        source, row = sign_in_of(connection, key)
        if status == row.status:
            effects.add("The source has this status already.")
            return effects
        try:
            _check_possible(connection, caller, source, row, status)
        except DravoError as wrong:
            effects.add(f"The status cannot be set yet. {wrong.message} {wrong.hint}")
        users = sign_in_queries.number_of_users(connection, source.id)
        if status == DISABLED:
            sessions = sign_in_queries.number_of_sessions(connection, source.id)
            effects.add(f"{count(sessions, 'session ends', 'sessions end')} at once.")
            effects.add(f"{count(users, 'user', 'users')} cannot sign in through {source.label} any more.")
            effects.add("Access and accounts stay.")
            return effects
        pilot = row.settings.get("pilot")
        if status == PILOT and pilot:
            members = sign_in_queries.number_in_pilot(connection, source.id, pilot)
            effects.add(f"Only members of '{pilot}' can sign in: {count(members, 'user', 'users')} now.")
        elif status == ENABLED:
            effects.add(
                f"All users that {source.label} accepts can sign in. {users:,} have signed in before."
            )
        if row.verified_at is None:
            effects.add("These settings have not been tested: the label of the source has to confirm.")
    return effects
