"""What operators set for the whole house: each setting has a meaning in words, a default and bounds."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection, delete, insert, literal, or_, select, update

from dravo.core.days import check_zone, read_span
from dravo.core.errors import InvalidInput
from dravo.services.context import AppContext
from dravo.services.security.audit_log import record_change
from dravo.services.security.permissions import Caller
from dravo.store import clock, memberships, recompute_marks
from dravo.store import tables as t
from dravo.store.snapshots.config import raise_revision

NUMBER, TIME_ZONE, TEXT = "number", "time zone", "text"
LONGEST_TEXT = 300


@dataclass(frozen=True)
class Setting:
    """What operators may set: a whole number within bounds, a time zone, or a short text."""

    name: str
    label: str
    default: int | str
    least: int = 0
    most: int = 0
    kind: str = NUMBER
    # What is needed to change it.
    permission: str = "settings.change"


SETTINGS = (
    Setting("time_zone", "Time zone of the organisation, in which days begin and end", "UTC", kind=TIME_ZONE),
    Setting("local_people", "Whether people may be entered here by hand: 1 yes, 0 no, then everybody comes through a source", 1, 0, 1),
    Setting("support_contact", "Whom people ask who may not in, or who miss something, in a sentence", "", kind=TEXT),
    Setting("user_session_hours", "Hours after which people who signed in sign in again", 8, 1, 168),
    Setting("second_factor", "Whether operators who sign in by password need a second factor: 1 yes, 0 no", 0, 0, 1, permission="operators.change"),
    Setting("guard_number", "Removals that go by themselves in an application, or among the people of a source, at the most", 100, 0, 1_000_000),
    Setting("guard_share", "The same, in a hundred of the application's accounts or the source's people", 20, 0, 100),
    Setting("guard_least", "Removals that always go, however small the application", 10, 0, 1_000),
    Setting("guard_hours", "Hours over which removals are counted together", 24, 1, 720),
    Setting("guard_top_role", "People to whom the highest role of an application is given without the name being typed", 10, 0, 1_000_000),
    Setting("trace_days", "Days for which the requests of sources are kept", 14, 1, 366),
    Setting("traces_per_source", "Requests that are kept for each source at the most", 20_000, 100, 1_000_000),
    Setting("attempt_days", "Days for which the attempts of deliveries that are done, and the lines of runs, are kept", 90, 1, 3_660),
)
_BY_NAME = {setting.name: setting for setting in SETTINGS}


def get(ctx: AppContext) -> dict[str, Any]:
    """Return every setting's value by name."""
    with ctx.database.reading() as connection:
        return read(connection)


def read(connection: Connection) -> dict[str, Any]:
    """Return every setting's value by name, as this transaction sees them."""
    given = {row.name: row.value for row in connection.execute(select(t.setting))}
    return {setting.name: given.get(setting.name, setting.default) for setting in SETTINGS}


def support_contact(connection: Connection, of_source: Mapping[str, Any]) -> str:
    """Return whom people ask who come by a source: as its own settings say, else as the house's."""
    return str(of_source.get("support_contact") or read(connection)["support_contact"])


def time_zone(connection: Connection) -> str:
    """Return the organisation's time zone by name."""
    given = connection.execute(select(t.setting.c.value).where(t.setting.c.name == "time_zone")).scalar()
    return str(given or _BY_NAME["time_zone"].default)


def list_settings(ctx: AppContext) -> dict[str, Any]:
    """Return every setting with its value, label and bounds."""
    values = get(ctx)
    return {
        "items": [
            {
                "name": each.name,
                "label": each.label,
                "kind": each.kind,
                "value": values[each.name],
                "default": each.default,
                "least": each.least,
                "most": each.most,
            }
            for each in SETTINGS
        ]
    }


def change(ctx: AppContext, caller: Caller, name: str, value: int | str) -> dict[str, Any]:
    """Give a setting another value.

    Raises:
        InvalidInput: if there is no such setting, or the value is out of its bounds; NotPermitted.
    """
    setting = _BY_NAME.get(name)
    if setting is None:
        raise InvalidInput(f"There is no setting '{name}'.", f"There are: {', '.join(_BY_NAME)}.", "name")
    caller.require(setting.permission)
    if setting.kind == TIME_ZONE:
        check_zone(str(value))
    elif setting.kind == TEXT:
        if len(str(value)) > LONGEST_TEXT:
            raise InvalidInput(f"It has {len(str(value))} characters.", f"{LONGEST_TEXT} at the most.", "value")
    elif not isinstance(value, int) or not setting.least <= value <= setting.most:
        raise InvalidInput(f"{value} is out of bounds for '{setting.label}'.", f"Give a number from {setting.least} to {setting.most}.", "value")
    before = get(ctx)[name]
    with ctx.database.writing() as connection:
        connection.execute(delete(t.setting).where(t.setting.c.name == name))
        connection.execute(insert(t.setting).values(name=name, value=value))
        if setting.kind == TIME_ZONE:
            _move_days(connection, str(value))
        record_change(connection, ctx.keys, caller, "changed setting", "setting", name, clock.now(), {"before": before, "after": value})
    return list_settings(ctx)


def _move_days(connection: Connection, zone: str) -> None:
    """Have days begin and end in another time zone: assignments that were given by days, and everybody whom they can touch."""
    a = t.assignment.c
    rows = connection.execute(select(t.assignment).where(a.removed_at.is_(None), or_(a.from_day.is_not(None), a.until_day.is_not(None)))).all()
    for row in rows:
        span = read_span(row.from_day or row.from_at, row.until_day or row.until_at, zone)
        connection.execute(update(t.assignment).where(a.id == row.id).values(from_at=span["from_at"], until_at=span["until_at"]))
    if rows:
        raise_revision(connection)
        recompute_marks.mark_selected(connection, memberships.everybody(literal(clock.now())))
