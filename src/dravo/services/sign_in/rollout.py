"""Who can sign in through a source, from when; and previews of another status and of other settings."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from sqlalchemy import Connection, delete, select, update

from dravo.core.errors import InvalidInput
from dravo.core.instants import Instant, later, parse_instant
from dravo.core.planning import UserSnapshot
from dravo.services.changes.effects import ChangeEffects, count
from dravo.services.changes.preview import PlannedChange
from dravo.services.changes.removal_limits import NeedsConfirmation
from dravo.services.context import AppContext
from dravo.services.security import operator_sso
from dravo.services.security.audit_log import AuditEvent, record_change
from dravo.services.security.operator_sso import OPERATORS, USERS
from dravo.services.security.permissions import Caller
from dravo.services.sign_in.settings import (
    DISABLED,
    ENABLED,
    PILOT,
    STATUSES,
    UNTESTED,
    check_super_administrator,
    missing,
    policy_with,
    read_settings,
)
from dravo.services.sources.policy import sign_in_of
from dravo.store import clock
from dravo.store import tables as t
from dravo.store.queries import sign_in as sign_in_queries

DAY = 86_400


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
        if row.serves != USERS:
            if status == ENABLED or at is not None:
                operator_sso.check_own_way(connection, caller, source.id)
            if status == DISABLED:
                operator_sso.check_nobody_is_locked_out(connection, source.id)
        if status != DISABLED or at is not None:
            if lacking := missing(connection, row):
                raise InvalidInput(
                    f"Missing: {', '.join(lacking)}.", "Enter the values on the Sign-in tab.", "status"
                )
            if status == PILOT and not row.settings.get("pilot"):
                raise InvalidInput(
                    "The pilot group is missing.", "Enter the group whose members can sign in.", "pilot"
                )
            if row.verified_at is None and confirm != source.label:
                hint = (
                    f"Run a test sign-in first, or type the name of the source, '{source.label}', to confirm."
                )
                raise NeedsConfirmation("These settings have not been tested yet.", hint, "confirm")
        connection.execute(
            update(t.source_sign_in)
            .where(t.source_sign_in.c.source_id == source.id)
            .values(status=status, enabled_from=at)
        )
        if status == DISABLED:
            # Sessions that began through the source end.
            connection.execute(delete(t.user_session).where(t.user_session.c.source_id == source.id))
            operator_sso.end_sessions(connection, source.id)
        details = {"key": key, "before": row.status, "after": status, "enabled_from": at}
        record_change(
            connection,
            ctx.keys,
            caller,
            now,
            AuditEvent("changed sign-in status", "source", source.id, details=details),
        )


def apply_scheduled_activation(ctx: AppContext, now: Instant) -> None:
    """Enable sources whose start time has come."""
    s = t.source_sign_in.c
    due = (s.enabled_from.is_not(None), s.enabled_from <= now)
    with ctx.database.reading() as connection:
        if connection.execute(select(s.source_id).where(*due).limit(1)).first() is None:
            return
    with ctx.database.writing() as connection:
        connection.execute(update(t.source_sign_in).where(*due).values(status=ENABLED, enabled_from=None))


def _check_status(status: str) -> None:
    if status not in STATUSES:
        raise InvalidInput(
            f"'{status}' is not a valid status.", f"Use one of: {', '.join(STATUSES)}.", "status"
        )


# Previews


def preview_settings(ctx: AppContext, key: str, given: dict[str, Any]) -> ChangeEffects:
    """Return the effects of other sign-in settings; nothing is changed or fetched.

    Args:
        ctx: the data folder.
        key: the key of the source.
        given: as in `settings.change`.

    Raises:
        InvalidInput, NotFound.
    """
    effects = ChangeEffects()
    with ctx.database.reading() as connection:
        source, row = sign_in_of(connection, key)
        before = row.settings
        merged = {**before, **(given.get("settings") or {})}
        after = read_settings(row.protocol, merged).model_dump()
        policy_with(row, given.get("policy") or {})
        changed = {name for name, value in after.items() if before.get(name) != value}
        for name in sorted(changed):
            effects.add(f"`{name}`: {_shown(after[name])} (now {_shown(before.get(name))}).")
        if row.secret and given.get("secret") is None and "issuer" in changed:
            effects.add("The client secret is deleted, because the host changes.")
        if (serves := given.get("serves")) is not None and serves != row.serves:
            effects.add(_SERVES[serves])
        others = given.keys() & {"metadata", "fields", "secret", "policy"}
        if changed - UNTESTED or any(given[name] is not None for name in others):
            effects.add("The settings need a new test sign-in, or the label of the source to confirm them.")
        if "claim_days" in changed and after["claim_days"]:
            _preview_claim_age(ctx, connection, source.id, after["claim_days"], effects)
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
        f"{count(number, 'membership', 'memberships')} of {count(len(ending), 'user', 'users')} expire: the "
        f"last sign-in was more than {count(days, 'day', 'days')} ago."
    )
    if not number:
        return

    def without(user: UserSnapshot) -> UserSnapshot:
        lost = ending.get(user.user_id, frozenset())
        return replace(user, groups=tuple(each for each in user.groups if each not in lost))

    users = sign_in_queries.users_with_claims_before(source_id, before)
    effects.add_access(connection, PlannedChange(None, (users,), ctx.catalogue.get(connection), without))


def preview_status(ctx: AppContext, key: str, status: str) -> ChangeEffects:
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
        users = sign_in_queries.number_of_users(connection, source.id)
        if status == DISABLED:
            sessions = sign_in_queries.number_of_sessions(connection, source.id)
            effects.add(f"{count(sessions, 'session ends', 'sessions end')} at once.")
            effects.add(f"{count(users, 'user', 'users')} cannot sign in through {source.label} any more.")
            effects.add("Access and accounts stay.")
            return effects
        if lacking := missing(connection, row):
            effects.add(f"The status cannot be set yet. Missing: {', '.join(lacking)}.")
        pilot = row.settings.get("pilot")
        if status == PILOT and pilot:
            members = sign_in_queries.number_in_pilot(connection, source.id, pilot)
            effects.add(f"Only members of '{pilot}' can sign in: {count(members, 'user', 'users')} now.")
        elif status == PILOT:
            effects.add("The status cannot be set yet. Enter the pilot group (`pilot`).")
        else:
            effects.add(f"Everyone whom {source.label} accepts can sign in; {users:,} did before.")
        if row.verified_at is None:
            effects.add("These settings have not been tested: the label of the source has to confirm.")
    return effects
