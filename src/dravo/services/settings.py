"""What operators set for the whole house: each setting has a meaning in words, a default and bounds."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from sqlalchemy import delete, insert, select

from dravo.core.errors import InvalidInput
from dravo.services.auditing import record_change
from dravo.services.house import House
from dravo.services.permissions import Caller
from dravo.store import clock
from dravo.store import tables as t


@dataclass(frozen=True)
class Setting:
    """A whole number that operators may set."""

    name: str
    label: str
    default: int
    least: int
    most: int


SETTINGS = (
    Setting("trace_days", "Days for which the requests of sources are kept", 14, 1, 366),
    Setting("traces_per_source", "Requests that are kept for each source at the most", 20_000, 100, 1_000_000),
    Setting("attempt_days", "Days for which the attempts of deliveries that are done are kept", 90, 1, 3_660),
)
_BY_NAME = {setting.name: setting for setting in SETTINGS}


def get(house: House) -> dict[str, int]:
    """Return every setting's value by name."""
    with house.database.reading() as connection:
        given = {row.name: row.value for row in connection.execute(select(t.setting))}
    return {setting.name: int(given.get(setting.name, setting.default)) for setting in SETTINGS}


def listing(house: House) -> dict[str, Any]:
    """Return every setting with its value, label and bounds."""
    values = get(house)
    return {
        "items": [
            {"name": each.name, "label": each.label, "value": values[each.name], "default": each.default, "least": each.least, "most": each.most}
            for each in SETTINGS
        ]
    }


def change(house: House, caller: Caller, name: str, value: int) -> dict[str, Any]:
    """Give a setting another value.

    Raises:
        InvalidInput: if there is no such setting, or the value is out of its bounds.
    """
    setting = _BY_NAME.get(name)
    if setting is None:
        raise InvalidInput(f"There is no setting '{name}'.", f"There are: {', '.join(_BY_NAME)}.", "name")
    if not setting.least <= value <= setting.most:
        raise InvalidInput(f"{value} is out of bounds for '{setting.label}'.", f"Give a number from {setting.least} to {setting.most}.", "value")
    before = get(house)[name]
    with house.database.writing() as connection:
        connection.execute(delete(t.setting).where(t.setting.c.name == name))
        connection.execute(insert(t.setting).values(name=name, value=value))
        record_change(connection, house.keys, caller, "changed setting", "setting", name, clock.now(), {"before": before, "after": value})
    return listing(house)
