"""The effects of another value of an organization setting."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from sqlalchemy import Connection

from dravo.core.access.types import Assignment
from dravo.core.instants import later
from dravo.core.plan_types import ConfigSnapshot, UserSnapshot
from dravo.services import settings
from dravo.services.changes import removal_limits
from dravo.services.changes.effects import ChangeEffects, count
from dravo.services.changes.preview import PlannedChange
from dravo.services.context import AppContext
from dravo.store import clock, memberships
from dravo.store.operators import operators as operator_rows
from dravo.store.queries import access as access_queries
from dravo.store.queries import retention

DAY = 86_400
MOST_APPLICATIONS = 20


def preview(ctx: AppContext, name: str, value: bool | int | str) -> ChangeEffects:
    """Return the effects of another value of a setting; nothing is changed.

    Raises:
        InvalidInput: if there is no such setting, or the value is out of its bounds.
    """
    settings.check_value(name, value)
    effects = ChangeEffects()
    with ctx.database.reading() as connection:
        before = settings.read(connection)
        if before[name] == value:
            effects.add("The setting has this value already.")
        elif name == "time_zone":
            _of_time_zone(ctx, connection, str(value), effects)
        elif name in ("removal_limit_number", "removal_limit_percent", "removal_limit_minimum"):
            _of_removal_limit(
                connection, ctx.catalogue.get(connection), before, {**before, name: value}, effects
            )
        elif name == "second_factor":
            _of_second_factor(connection, effects, required=bool(value))
        elif name in ("trace_days", "attempt_days", "message_days", "traces_per_source"):
            _of_retention(connection, name, int(value), effects)
        else:
            effects.add(_LATER.get(name, "The value applies from now on."))
    return effects


# Settings without effects on existing objects, with what they apply to.
_LATER = {
    "highest_role_confirmation": "The number applies to later changes of access.",
    "user_session_hours": "The lifetime applies to new sessions. Current sessions keep theirs.",
    "removal_limit_hours": "Later removals are counted over the new time window. Held removals stay held.",
    "organization_name": "Emails contain the new name from now on.",
    "refused_sign_ins": "The number applies to the next notification.",
    "support_contact": "Refused users see the new text from now on.",
    "local_users": "Existing local users stay. The setting decides whether operators can create more.",
}


def _of_time_zone(ctx: AppContext, connection: Connection, zone: str, effects: ChangeEffects) -> None:
    """Days begin and end at other instants, for all assignments that have days."""
    moved = settings.days_in(connection, zone)
    effects.add(
        f"The days of {count(len(moved), 'assignment begin', 'assignments begin')} and end in {zone}."
    )
    if not moved:
        return

    def dated(assignment: Assignment) -> Assignment:
        span = moved.get(assignment.id)
        return replace(assignment, from_at=span[0], until_at=span[1]) if span else assignment

    def of_user(user: UserSnapshot) -> UserSnapshot:
        return replace(user, direct=tuple(dated(each) for each in user.direct))

    catalogue = ctx.catalogue.get(connection)
    then = replace(
        catalogue,
        by_group={group: tuple(dated(each) for each in given) for group, given in catalogue.by_group.items()},
        general=tuple(dated(each) for each in catalogue.general),
    )
    effects.add_access(connection, PlannedChange(None, (memberships.everyone(),), then, of_user, zone))


def _of_removal_limit(
    connection: Connection,
    catalogue: ConfigSnapshot,
    before: dict[str, Any],
    after: dict[str, Any],
    effects: ChangeEffects,
) -> None:
    """Each application has its own limit, counted against its users."""
    applications = sorted(
        (each for each in catalogue.applications.values() if not each.tracked_only),
        key=lambda each: each.label,
    )
    for application in applications[:MOST_APPLICATIONS]:
        present = access_queries.number_of_users(connection, application.id)
        was = removal_limits.limits(before).allowed(present)
        now = removal_limits.limits(after).allowed(present)
        if was != now:
            effects.add(f"{application.label}: {now:,} removals need no approval (now {was:,}).")
    if not effects.sentences:
        effects.add("The limits of all applications stay the same.")
    if len(applications) > MOST_APPLICATIONS:
        effects.add(f"{len(applications) - MOST_APPLICATIONS:,} more applications are not listed.")
    effects.add("Removals that are held stay held until an operator approves or discards them.")


def _of_second_factor(connection: Connection, effects: ChangeEffects, *, required: bool) -> None:
    if not required:
        effects.add("Operators can sign in without a second factor, and can disable theirs.")
        return
    number = operator_rows.number_without_second_factor(connection)
    effects.add(
        f"{count(number, 'operator has', 'operators have')} no second factor and must set one up at the "
        "next sign-in."
    )


def _of_retention(connection: Connection, name: str, value: int, effects: ChangeEffects) -> None:
    """Shorter retention deletes at the next daily run."""
    before = later(clock.now(), -DAY * value)
    if name == "traces_per_source":
        deleted = retention.requests_beyond(connection, value)
        effects.add(f"{count(deleted, 'stored request is', 'stored requests are')} deleted.")
    elif name == "trace_days":
        requests = retention.requests_before(connection, before)
        sign_ins = retention.sign_ins_before(connection, before)
        effects.add(f"{count(requests, 'inbound SCIM request is', 'inbound SCIM requests are')} deleted.")
        effects.add(f"{count(sign_ins, 'sign-in is', 'sign-ins are')} deleted.")
    elif name == "message_days":
        messages = retention.messages_before(connection, before)
        events = retention.events_before(connection, before)
        effects.add(f"{count(messages, 'message is', 'messages are')} deleted.")
        effects.add(f"{count(events, 'event is', 'events are')} deleted.")
    else:
        attempts = retention.attempts_before(connection, before)
        entries = retention.run_entries_before(connection, before)
        effects.add(f"{count(attempts, 'task attempt is', 'task attempts are')} deleted.")
        effects.add(f"{count(entries, 'import run entry is', 'import run entries are')} deleted.")
