"""Roles that an application has, compared with the roles that are defined for it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from dravo.core.instants import Instant
from dravo.core.provisioning import attribute_mapping, seen_values
from dravo.core.provisioning.attribute_mapping import RoleEncoding
from dravo.core.provisioning.seen_values import SeenValue
from dravo.services.context import AppContext
from dravo.services.lookups import application_by_key
from dravo.store.provisioning import applications as stored
from dravo.store.provisioning.applications import CountedRole
from dravo.store.queries.applications import Application

# In which attribute roles are looked for, by the way they are sent.
_CARRIED_IN = {
    attribute_mapping.ROLES: seen_values.ROLES,
    attribute_mapping.ENTITLEMENTS: seen_values.ENTITLEMENTS,
    attribute_mapping.GROUPS: seen_values.GROUPS,
}


@dataclass
class AvailableRole:
    """A value that the application has, with the key of the role that is sent as it, or None."""

    attribute: str
    value: str
    label: str
    accounts: int
    role: str | None


@dataclass
class AvailableRoles:
    """What the application has, and which of the defined roles it does not list.

    Attributes:
        attribute: where roles are sent: "roles", "entitlements" or "groups"; None for another way.
        seen_at: when the application was read, or None.
        complete: whether all accounts were read, not only a sample.
        missing: the keys of roles whose value the application does not list.
    """

    attribute: str | None
    seen_at: Instant | None
    complete: bool
    items: list[AvailableRole]
    missing: list[str]


def list_available(ctx: AppContext, key: str) -> AvailableRoles:
    """Return the roles, entitlements and groups that the application was seen with.

    Raises:
        NotFound.
    """
    with ctx.database.reading() as connection:
        row = application_by_key(connection, key)
        roles = stored.list_roles(connection, row.id)
    return compare(row, roles)


def compare(row: Application, roles: Sequence[CountedRole]) -> AvailableRoles:
    """Compare the defined roles of an application with what was seen there."""
    encoding = RoleEncoding(**(row.role_encoding or {}))
    carried_in = _CARRIED_IN.get(encoding.way)
    values = {each.key: encoding.sent_for(each.key, each.label, each.sent_value) for each in roles}
    sent = {value: key for key, value in values.items() if value is not None}
    seen = seen_values.read((row.seen_values or {}).get("values"))
    there = {each.value for each in seen if each.attribute == carried_in}
    return AvailableRoles(
        attribute=carried_in,
        seen_at=row.seen_at,
        complete=bool((row.seen_values or {}).get("complete")),
        items=[_item(each, sent if each.attribute == carried_in else {}) for each in seen],
        # An application that lists nothing proves nothing.
        missing=[key for key, value in values.items() if there and value not in there],
    )


def _item(seen: SeenValue, sent: dict[str, str]) -> AvailableRole:
    return AvailableRole(
        attribute=seen.attribute,
        value=seen.value,
        label=seen.label,
        accounts=seen.accounts,
        role=sent.get(seen.value),
    )
