"""Access and an application's settings become the account as it should be there; and how that differs from what was agreed.

What is due is plain JSON, kept with the account and compared as it is:

- ``{"want": "present", "active": bool, "roles": [...], "user": {...}}``: there, with these attributes and roles;
- ``{"want": "absent"}``: not there;
- ``{"want": "as it is"}``: the application's settings say to leave it alone.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from dravo.core.merging import MergedUser
from dravo.core.records import display_name

PRESENT, ABSENT, AS_IT_IS = "present", "absent", "as it is"
DEACTIVATE, DELETE, LEAVE_ALONE = "deactivate", "delete", "leave alone"
LEAVING = (DEACTIVATE, DELETE, LEAVE_ALONE)

DELIVERED = (
    "userName",
    "name",
    "displayName",
    "nickName",
    "title",
    "userType",
    "preferredLanguage",
    "locale",
    "timezone",
    "emails",
    "phoneNumbers",
    "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User",
)
ENTERPRISE_PARTS = ("employeeNumber", "costCenter", "organization", "division", "department")


@dataclass(frozen=True)
class Settings:
    """What Dravo does in an application about people who leave it: one of `LEAVING` for each of the three events."""

    on_losing_access: str = DEACTIVATE
    on_inactive: str = DEACTIVATE
    on_gone: str = DEACTIVATE


@dataclass(frozen=True)
class RoleLabel:
    """A role as an application knows it."""

    key: str
    label: str
    rank: int


def due_account(
    user_id: str, user: MergedUser, roles: Sequence[RoleLabel], settings: Settings, before: Mapping[str, Any] | None
) -> dict[str, Any] | None:
    """Return the account as it should be in one application, or None where there never was a reason for one.

    Args:
        user_id: the user's id, which is the account's externalId.
        user: the person.
        roles: the roles that they have in the application now; may be none.
        settings: the application's.
        before: what was due last, or None.
    """
    if roles:
        return _present(user_id, user, roles, active=True)
    if before is None:
        return None
    if user.gone:
        what = settings.on_gone
    elif not user.active:
        what = settings.on_inactive
    else:
        what = settings.on_losing_access
    if what == DELETE or before["want"] == ABSENT:
        return {"want": ABSENT}
    if what == LEAVE_ALONE:
        return {"want": AS_IT_IS}
    return _present(user_id, user, (), active=False)


def _present(user_id: str, user: MergedUser, roles: Sequence[RoleLabel], *, active: bool) -> dict[str, Any]:
    ranked = sorted(roles, key=lambda role: (-role.rank, role.key))
    attributes: dict[str, Any] = {}
    for name in DELIVERED:
        value = user.attributes.get(name)
        if isinstance(value, Mapping) and name.startswith("urn:"):
            # A manager's id means nothing to another service, so it does not go over.
            value = {part: value[part] for part in ENTERPRISE_PARTS if part in value}
        if value:
            attributes[name] = value
    attributes.setdefault("displayName", display_name(user.attributes))
    attributes["externalId"] = user_id
    return {
        "want": PRESENT,
        "active": active,
        "roles": [{"value": role.key, "display": role.label, "primary": number == 0} for number, role in enumerate(ranked)],
        "user": attributes,
    }


def describe(due: Mapping[str, Any]) -> str:
    """Return in a few words what an account is to become."""
    if due["want"] == ABSENT:
        return "not there"
    if due["want"] == AS_IT_IS:
        return "left as it is"
    roles = ", ".join(role["display"] for role in due["roles"])
    return f"active, {roles}" if due["active"] and roles else "active" if due["active"] else "inactive, no role"


def scim_body(due: Mapping[str, Any]) -> dict[str, Any]:
    """Return a due account as the attributes of a SCIM User, `schemas` left out."""
    return {**due["user"], "active": due["active"], "roles": due["roles"]}


def differences(agreed: Mapping[str, Any], due: Mapping[str, Any]) -> list[dict[str, Any]]:
    """Return the patch operations that make one SCIM User into another (RFC 7644, section 3.5.2).

    Args:
        agreed: the attributes that the application has from us.
        due: the attributes that it should have.
    """
    operations: list[dict[str, Any]] = []
    for name, value in due.items():
        if agreed.get(name) == value:
            continue
        if value == []:
            if agreed.get(name):
                operations.append({"op": "remove", "path": name})
        elif name.startswith("urn:") and isinstance(value, Mapping):
            operations.extend(_extension_differences(name, agreed.get(name) or {}, value))
        else:
            operations.append({"op": "replace", "path": name, "value": value})
    operations.extend({"op": "remove", "path": name} for name in agreed if name not in due and agreed[name])
    return operations


def _extension_differences(urn: str, agreed: Mapping[str, Any], due: Mapping[str, Any]) -> list[dict[str, Any]]:
    """Return the operations for an extension part by part: not every application takes an extension whole as a path."""
    changed = [{"op": "replace", "path": f"{urn}:{part}", "value": value} for part, value in due.items() if agreed.get(part) != value]
    return changed + [{"op": "remove", "path": f"{urn}:{part}"} for part in agreed if part not in due]
