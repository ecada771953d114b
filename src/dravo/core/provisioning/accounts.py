"""The desired account: from access and settings of an application; and how it differs from the applied one.

It is plain JSON, stored with the account and compared as it is:

- ``{"want": "present", "active": bool, "roles": [...], "user": {...}}``: an account with these attributes and
  roles (each with its value, and its key where that differs); where they apply also ``plan`` (of its seat),
  ``carry`` and ``carry_plan`` (how roles and plan are sent), ``groups`` (its provisioned groups), ``manager``
  (as the source names users; when it is sent, also the ``remote_id`` of the manager's account) and
  ``problem`` (why it cannot be created);
- ``{"want": "absent"}``: no account;
- ``{"want": "as it is"}``: the settings leave the account unchanged.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

from dravo.core.access.license_plans import Plan
from dravo.core.expressions import Expression
from dravo.core.identity.merging import MergedUser
from dravo.core.identity.records import display_name
from dravo.core.provisioning.attribute_mapping import (
    ATTRIBUTE,
    ENTITLEMENTS,
    OBJECTS,
    PLAIN,
    ROLES,
    RoleEncoding,
    Target,
    carried,
    mapped,
)
from dravo.core.scim.schemas import ENTERPRISE_URN

PRESENT, ABSENT, AS_IT_IS = "present", "absent", "as it is"
DEACTIVATE, DELETE, LEAVE_ALONE = "deactivate", "delete", "do_nothing"
LEAVING = (DEACTIVATE, DELETE, LEAVE_ALONE)

# The default way to send license plans.
PLAN_PLAIN = RoleEncoding(ENTITLEMENTS)

PROVISIONED = (
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
    ENTERPRISE_URN,
)
MANAGER = "manager"
ENTERPRISE_PARTS = ("employeeNumber", "costCenter", "organization", "division", "department")


@dataclass(frozen=True)
class Settings:
    """What is sent to an application, and what happens to accounts of users who lose access.

    Attributes:
        on_losing_access, on_inactive, on_leaving: one of `LEAVING` for each of the three events.
        attributes: expressions beside the standard attributes; None leaves an attribute out.
        role_encoding, plan_encoding: how roles are sent, and the plan of the user's seat.
    """

    on_losing_access: str = DEACTIVATE
    on_inactive: str = DEACTIVATE
    on_leaving: str = DEACTIVATE
    attributes: tuple[tuple[Target, Expression | None], ...] = ()
    role_encoding: RoleEncoding = PLAIN
    plan_encoding: RoleEncoding = PLAN_PLAIN

    @cached_property
    def sends_manager(self) -> bool:
        """Whether the manager's account is sent: no expression fills the manager or leaves it out."""
        return not any(_is_manager(target) for target, _ in self.attributes)


def _is_manager(target: Target) -> bool:
    at = target.path.at if target.path is not None else None
    return (
        at is not None
        and at.urn == ENTERPRISE_URN
        and at.attribute is not None
        and at.attribute.name == MANAGER
    )


@dataclass(frozen=True)
class RoleLabel:
    """A role as an application knows it; `sent_value` is what is sent for it, None for the key."""

    key: str
    label: str
    rank: int
    sent_value: str | None = field(default=None, kw_only=True)

    @property
    def order(self) -> tuple[int, str]:
        """The sort key of roles, the highest first: by rank, then by key."""
        return -self.rank, self.key


@dataclass(frozen=True)
class Entitlement:
    """What a user's access gives in one application.

    Attributes:
        roles: the roles, possibly none.
        groups: the provisioned groups of which the user is a member, as "group:ID" or "role:ID".
        plan: the license plan of which the user has a seat, or None.
    """

    roles: Sequence[RoleLabel] = ()
    groups: Sequence[str] = ()
    plan: Plan | None = None


def desired_account(
    user_id: str,
    user: MergedUser,
    entitlement: Entitlement,
    settings: Settings,
    before: Mapping[str, Any] | None,
) -> dict[str, Any] | None:
    """Return the desired account in one application; None for a user who never had a reason for one.

    Args:
        user_id: the ID of the user; it becomes the account's externalId.
        user: the user, merged from all source records.
        entitlement: what the user's access gives in the application.
        settings: the provisioning settings of the application.
        before: the account that was desired last, or None.
    """
    if entitlement.roles:
        due = _present(user_id, user, entitlement.roles, settings, active=True)
        if entitlement.plan is not None:
            plan = entitlement.plan
            due["plan"] = {"value": plan.sent_value or plan.key, "display": plan.label}
            if settings.plan_encoding != PLAN_PLAIN:
                due["carry_plan"] = settings.plan_encoding.document()
        return {**due, "groups": sorted(entitlement.groups)} if entitlement.groups else due
    if before is None:
        return None
    if user.gone:
        what = settings.on_leaving
    elif not user.active:
        what = settings.on_inactive
    else:
        what = settings.on_losing_access
    if what == DELETE or before["want"] == ABSENT:
        return {"want": ABSENT}
    if what == LEAVE_ALONE:
        return {"want": AS_IT_IS}
    return _present(user_id, user, (), settings, active=False)


def _present(
    user_id: str, user: MergedUser, roles: Sequence[RoleLabel], settings: Settings, *, active: bool
) -> dict[str, Any]:
    ranked = sorted(roles, key=lambda role: role.order)
    attributes: dict[str, Any] = {}
    for name in PROVISIONED:
        value = user.attributes.get(name)
        if isinstance(value, Mapping) and name.startswith("urn:"):
            # The source's ID of a manager has no meaning in another service; the ID of their account has.
            value = {part: value[part] for part in ENTERPRISE_PARTS if part in value}
        if value:
            attributes[name] = value
    attributes.setdefault("displayName", display_name(user.attributes))
    if settings.attributes:
        attributes = mapped(attributes, user.attributes, settings.attributes)
    attributes.setdefault("externalId", user_id)
    due = {
        "want": PRESENT,
        "active": active,
        "roles": [
            {**_named(role), "display": role.label, "primary": number == 0}
            for number, role in enumerate(ranked)
        ],
        "user": attributes,
    }
    if settings.sends_manager and (manager := user.manager) is not None:
        due[MANAGER] = {"source": manager.source_id, "value": manager.value}
    if settings.role_encoding != PLAIN:
        due["carry"] = settings.role_encoding.document()
    if not attributes.get("userName"):
        due["problem"] = "The expression for userName has no value for this user."
    return due


def _named(role: RoleLabel) -> dict[str, str]:
    """Return the value of a role, and its key where it has another value."""
    if role.sent_value is None:
        return {"value": role.key}
    return {"value": role.sent_value, "key": role.key}


def role_keys(due: Mapping[str, Any]) -> list[str]:
    """Return the keys of the roles of a desired account, whatever values are sent for them."""
    return [role.get("key", role["value"]) for role in due.get("roles", ())]


def describe(due: Mapping[str, Any]) -> str:
    """Return the desired state of an account in a few words."""
    if due["want"] == ABSENT:
        return "no account"
    if due["want"] == AS_IT_IS:
        return "unchanged"
    roles = ", ".join(role["display"] for role in due["roles"])
    if "plan" in due:
        roles += f" (plan {due['plan']['display']})"
    return (
        f"active, {roles}" if due["active"] and roles else "active" if due["active"] else "inactive, no role"
    )


def provisioned_names(settings: Settings) -> frozenset[str]:
    """Return the names of the attributes that an application gets, with or without a value; no roles where
    groups carry them.
    """
    names = set(PROVISIONED)
    for target, expression in settings.attributes:
        if target.path is None:
            continue
        at = target.path.at
        name = at.urn or (at.attribute.name if at.attribute is not None else "")
        if expression is not None:
            names.add(name)
        elif at.urn is None and at.sub is None:
            names.discard(name)
    if settings.role_encoding.way in (ROLES, ENTITLEMENTS, ATTRIBUTE):
        names |= {ROLES, ENTITLEMENTS}
    return frozenset(names - {""})


def scim_body(due: Mapping[str, Any], shape: str = OBJECTS) -> dict[str, Any]:
    """Return a desired account as the attributes of a SCIM User, without `schemas`; None and empty values are
    removed there.

    Args:
        due: as `desired_account` returns it.
        shape: the form of roles, where the settings leave it to the application.
    """
    body = {**due["user"], "active": due["active"]}
    if (account := manager_account(due)) is not None:
        body[ENTERPRISE_URN] = {**body.get(ENTERPRISE_URN, {}), MANAGER: {"value": account}}
    for name, value in carried(due["roles"], RoleEncoding(**due.get("carry", {})), shape).items():
        body[name] = {**body.get(name, {}), **value} if isinstance(value, Mapping) else value
    for name, value in _plan_carried(due, shape).items():
        if isinstance(value, Mapping):
            body[name] = {**body.get(name, {}), **value}
        else:
            body[name] = [*(body.get(name) or ()), *value] if isinstance(value, list) else value
    return body


def manager_account(due: Mapping[str, Any]) -> str | None:
    """Return the ID in the application of the manager's account; None without one."""
    account: str | None = due.get(MANAGER, {}).get("remote_id")
    return account


def with_manager(due: Mapping[str, Any], remote_id: str | None) -> dict[str, Any]:
    """Return a desired account whose manager has an account with this ID in the application, or none yet."""
    named = {name: due[MANAGER][name] for name in ("source", "value")}
    return {**due, MANAGER: named if remote_id is None else {**named, "remote_id": remote_id}}


def _plan_carried(due: Mapping[str, Any], shape: str) -> dict[str, Any]:
    if "plan" not in due:
        return {}
    return carried([due["plan"]], RoleEncoding(**due.get("carry_plan", PLAN_PLAIN.document())), shape)


def carriers(due: Mapping[str, Any], shape: str) -> frozenset[str]:
    """Return the names of the attributes with the roles and the plan of a desired account."""
    how = RoleEncoding(**due.get("carry", {}))
    roles = {*carried(due["roles"], how, shape)} if how.way != ATTRIBUTE else {how.attribute or ""}
    return frozenset(roles | {*_plan_carried(due, shape)})


def differences(agreed: Mapping[str, Any], due: Mapping[str, Any]) -> list[dict[str, Any]]:
    """Return the patch operations that turn one SCIM User into another (RFC 7644, section 3.5.2).

    Args:
        agreed: the applied attributes.
        due: the desired attributes.
    """
    operations: list[dict[str, Any]] = []
    for name, value in due.items():
        before = agreed.get(name)
        if before == value:
            continue
        if value in (None, []):
            if before:
                operations.append({"op": "remove", "path": name})
        elif isinstance(value, Mapping) and name.startswith("urn:"):
            operations.extend(_part_differences(f"{name}:", before or {}, value))
        elif isinstance(value, Mapping) and None in value.values():
            operations.extend(_part_differences(f"{name}.", before or {}, value))
        else:
            operations.append({"op": "replace", "path": name, "value": value})
    for name in agreed:
        if name in due or not agreed[name]:
            continue
        if isinstance(agreed[name], Mapping) and name.startswith("urn:"):
            # The application may have other parts of its own.
            operations.extend(_part_differences(f"{name}:", agreed[name], {}))
        else:
            operations.append({"op": "remove", "path": name})
    return operations


def without_empty(attributes: Mapping[str, Any]) -> dict[str, Any]:
    """Return attributes without None and empty values, at both levels, for a new account."""
    kept = {}
    for name, value in attributes.items():
        inner = (
            {part: each for part, each in value.items() if each not in (None, [])}
            if isinstance(value, Mapping)
            else value
        )
        if inner not in (None, [], {}):
            kept[name] = inner
    return kept


def _part_differences(
    before_part: str, agreed: Mapping[str, Any], due: Mapping[str, Any]
) -> list[dict[str, Any]]:
    """Return the operations for a complex value, one for each part: not every application accepts an
    extension as a path.
    """
    operations = []
    for part, value in due.items():
        if value in (None, []):
            if agreed.get(part):
                operations.append({"op": "remove", "path": f"{before_part}{part}"})
        elif agreed.get(part) != value:
            operations.append({"op": "replace", "path": f"{before_part}{part}", "value": value})
    return operations + [
        {"op": "remove", "path": f"{before_part}{part}"} for part in agreed if part not in due
    ]
