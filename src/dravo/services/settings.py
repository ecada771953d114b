"""Organization settings: each has a label, a default and bounds."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection

from dravo.core.days import check_zone, read_span
from dravo.core.errors import InvalidInput, did_you_mean
from dravo.core.instants import Instant
from dravo.services.context import AppContext
from dravo.services.security.audit_log import AuditEvent, record_change
from dravo.services.security.permissions import Caller
from dravo.store import clock, recompute_marks
from dravo.store.organization import settings as stored_settings
from dravo.store.pagination import ItemList
from dravo.store.queries import assignment_days
from dravo.store.snapshots.config import raise_revision

NUMBER, BOOLEAN, TIME_ZONE, TEXT = "number", "boolean", "time_zone", "text"
GENERAL, SIGN_IN, REMOVAL_LIMIT, RETENTION = "General", "Sign-in", "Removal limit", "Retention"
LOCAL_USERS = "Local users"
LONGEST_TEXT = 300


@dataclass(frozen=True)
class Setting:
    """An organization setting: a number with bounds and a unit, a boolean, a time zone, or a short text."""

    name: str
    group: str
    label: str
    default: bool | int | str
    least: int = 0
    most: int = 0
    unit: str = ""
    kind: str = NUMBER
    # What is needed to change it.
    permission: str = "settings.change"


@dataclass
class SettingLine:
    """A setting of the organization with its value."""

    name: str
    group: str
    label: str
    kind: str
    value: bool | int | str
    default: bool | int | str
    least: int
    most: int
    unit: str


SETTINGS = (
    Setting("time_zone", GENERAL, "Time zone for start and end dates", "UTC", kind=TIME_ZONE),
    Setting("organization_name", GENERAL, "Name of the organization", "", kind=TEXT),
    Setting("support_contact", GENERAL, "Support contact for refused users", "", kind=TEXT),
    Setting(
        "highest_role_confirmation",
        GENERAL,
        "Confirm a highest role from this number of users",
        1,
        1,
        1_000_000,
        "users",
    ),
    Setting(
        "refused_sign_ins",
        SIGN_IN,
        "Notify from this number of refused sign-ins an hour",
        20,
        1,
        100_000,
        "sign-ins",
    ),
    Setting("user_session_hours", SIGN_IN, "Session lifetime of users", 8, 1, 168, "hours"),
    Setting(
        "second_factor",
        SIGN_IN,
        "Require a second factor for operators",
        False,
        kind=BOOLEAN,
        permission="operators.change",
    ),
    Setting(
        "removal_limit_number", REMOVAL_LIMIT, "Removals without approval", 100, 0, 1_000_000, "removals"
    ),
    Setting(
        "removal_limit_percent",
        REMOVAL_LIMIT,
        "Removals without approval, share of accounts or users",
        20,
        0,
        100,
        "percent",
    ),
    Setting(
        "removal_limit_minimum", REMOVAL_LIMIT, "Removals that never need approval", 10, 0, 1_000, "removals"
    ),
    Setting(
        "removal_limit_hours", REMOVAL_LIMIT, "Time window in which removals are counted", 24, 1, 720, "hours"
    ),
    Setting("local_users", LOCAL_USERS, "Allow local users", True, kind=BOOLEAN),
    Setting("password_length", LOCAL_USERS, "Minimum length of passwords", 12, 8, 64, "characters"),
    Setting("weak_passwords", LOCAL_USERS, "Allow weak passwords after a confirmation", False, kind=BOOLEAN),
    Setting(
        "change_one_time_passwords",
        LOCAL_USERS,
        "Change one-time passwords at the first sign-in",
        True,
        kind=BOOLEAN,
    ),
    Setting(
        "invitation_days", LOCAL_USERS, "Validity of invitations and one-time passwords", 7, 1, 90, "days"
    ),
    Setting("trace_days", RETENTION, "Inbound SCIM requests and sign-ins", 14, 1, 366, "days"),
    Setting(
        "traces_per_source",
        RETENTION,
        "Maximum number of stored requests per source",
        20_000,
        100,
        1_000_000,
        "requests",
    ),
    Setting("attempt_days", RETENTION, "Task attempts and import run entries", 90, 1, 3_660, "days"),
    Setting("message_days", RETENTION, "Sent messages and events", 90, 1, 3_660, "days"),
)
_BY_NAME = {setting.name: setting for setting in SETTINGS}


def get(ctx: AppContext) -> dict[str, Any]:
    """Return every setting's value by name."""
    with ctx.database.reading() as connection:
        return read(connection)


def read(connection: Connection) -> dict[str, Any]:
    """Return the value of every setting by name, as this transaction sees them."""
    given = stored_settings.values(connection)
    return {setting.name: given.get(setting.name, setting.default) for setting in SETTINGS}


def support_contact(connection: Connection, of_source: Mapping[str, Any]) -> str:
    """Return the support contact for users of a source: from its settings, or from the organization's."""
    return str(of_source.get("support_contact") or read(connection)["support_contact"])


def time_zone(connection: Connection) -> str:
    """Return the organization's time zone by name."""
    given = stored_settings.value(connection, "time_zone")
    return str(given or _BY_NAME["time_zone"].default)


def list_settings(ctx: AppContext) -> ItemList[SettingLine]:
    """Return every setting with its value, label and bounds."""
    values = get(ctx)
    return ItemList(
        [
            SettingLine(
                name=each.name,
                group=each.group,
                label=each.label,
                kind=each.kind,
                value=values[each.name],
                default=each.default,
                least=each.least,
                most=each.most,
                unit=each.unit,
            )
            for each in SETTINGS
        ]
    )


def change(ctx: AppContext, caller: Caller, name: str, value: bool | int | str) -> ItemList[SettingLine]:
    """Change an organization setting.

    Raises:
        InvalidInput: if there is no such setting, or the value is out of its bounds; NotPermitted.
    """
    setting = check_value(name, value)
    caller.require(setting.permission)
    before = get(ctx)[name]
    with ctx.database.writing() as connection:
        stored_settings.replace_value(connection, name, value)
        if setting.kind == TIME_ZONE:
            _move_days(connection, str(value))
        record_change(
            connection,
            ctx.keys,
            caller,
            clock.now(),
            AuditEvent("changed setting", "setting", name, details={"before": before, "after": value}),
        )
    return list_settings(ctx)


def check_value(name: str, value: bool | int | str) -> Setting:
    """Return the setting with a name, if a value is valid for it.

    Raises:
        InvalidInput: if there is no such setting, or the value is out of its bounds.
    """
    setting = _BY_NAME.get(name)
    if setting is None:
        raise InvalidInput(f"There is no setting '{name}'.", did_you_mean(name, _BY_NAME), "name")
    if setting.kind == TIME_ZONE:
        check_zone(str(value))
    elif setting.kind == TEXT:
        if len(str(value)) > LONGEST_TEXT:
            raise InvalidInput(
                f"The value has {len(str(value))} characters.",
                f"Enter at most {LONGEST_TEXT} characters.",
                "value",
            )
    elif setting.kind == BOOLEAN:
        if not isinstance(value, bool):
            raise InvalidInput(
                f"{value!r} is not a valid value for '{setting.label}'.", "Use true or false.", "value"
            )
    elif not isinstance(value, int) or isinstance(value, bool) or not setting.least <= value <= setting.most:
        raise InvalidInput(
            f"{value} is out of range for '{setting.label}'.",
            f"Enter a number from {setting.least} to {setting.most}.",
            "value",
        )
    return setting


def days_in(connection: Connection, zone: str) -> dict[str, tuple[Instant | None, Instant | None]]:
    """Return by ID of the assignment when its days begin and end in a time zone, for all that have days."""
    spans = {
        row.id: read_span(row.from_day or row.from_at, row.until_day or row.until_at, zone)
        for row in assignment_days.with_days(connection)
    }
    return {each: (_instant(span["from_at"]), _instant(span["until_at"])) for each, span in spans.items()}


def _instant(value: str | None) -> Instant | None:
    return None if value is None else Instant(value)


def _move_days(connection: Connection, zone: str) -> None:
    """Move the days of assignments to another time zone, and mark all users that they can affect."""
    spans = days_in(connection, zone)
    assignment_days.move(connection, spans)
    if spans:
        raise_revision(connection)
        recompute_marks.mark_everyone(connection, clock.now())
