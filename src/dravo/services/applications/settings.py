"""Provisioning settings: what Dravo may do in an application and what it sends. Checked, shown and
previewed.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from typing import Any

from sqlalchemy import Connection

from dravo.core import schedules
from dravo.core.errors import InvalidInput
from dravo.core.expressions import compile_expression
from dravo.core.expressions.functions import compiled
from dravo.core.instants import Instant
from dravo.core.plan_types import ConfigSnapshot
from dravo.core.planning import plan_user
from dravo.core.provisioning import attribute_mapping
from dravo.core.provisioning.accounts import (
    LEAVING,
    MANAGER,
    PLAN_PLAIN,
    PRESENT,
    describe,
    differences,
    scim_body,
)
from dravo.core.provisioning.attribute_mapping import RoleEncoding, read_target
from dravo.core.provisioning.found_accounts import POLICIES
from dravo.core.provisioning.matching import check_origin, read_adopt_by
from dravo.services.context import AppContext
from dravo.services.lookups import application_by_key, source_by_key
from dravo.services.results import ChangedAttribute
from dravo.store import clock
from dravo.store.provisioning import applications as application_rows
from dravo.store.queries import groups as group_queries
from dravo.store.queries.applications import Application
from dravo.store.queries.references import UserRef, attributes_ref
from dravo.store.snapshots import users as user_snapshots
from dravo.store.snapshots.config import (
    BY_PATTERN,
    CHOSEN,
    GIVING_ROLES,
    NO_GROUPS,
    plans_as_of,
    provisioned_groups,
    settings_of,
)

# The status of provisioning.
DISABLED, PILOT, SCHEDULED, ENABLED = "disabled", "pilot", "scheduled", "enabled"
# Settings that can be cleared with an empty value.
EMPTY: dict[str, Any] = {"rate_limit": 0, "reconcile_schedule": ""}
NO_GROUPS_AT_ALL: dict[str, Any] = {"which": NO_GROUPS, "groups": []}
MOST_SHOWN = 50
MOST_LOOKED_AT = 100_000


@dataclass
class SettingsPreviewUser:
    """An account that changed settings would affect."""

    user: UserRef
    before: str
    after: str
    changes: list[ChangedAttribute]


@dataclass
class SettingsPreview:
    """The preview of changed settings."""

    accounts: int
    changed: int
    whole: bool
    users: list[SettingsPreviewUser]


@dataclass
class ProvisioningSettings:
    """The provisioning settings of an application."""

    enabled: bool
    create_accounts: bool
    update_accounts: bool
    adopt_by: list[str]
    adopt_groups: bool
    unlinked_accounts: str
    approve_tasks: bool
    origin_attribute: str
    on_losing_access: str
    on_inactive: str
    on_leaving: str
    max_concurrency: int
    rate_limit: int
    attributes: list[dict[str, str]]
    role_encoding: dict[str, Any]
    plan_encoding: dict[str, Any]
    provisioned_groups: dict[str, Any]
    reconcile_schedule: str
    reconcile_schedule_words: str
    reconcile_next_at: Instant | None
    reconcile_times: Sequence[str]


def status_of(row: Application) -> str:
    """Return the provisioning status of an application."""
    if row.enabled:
        return PILOT if row.pilot_group_id is not None else ENABLED
    return SCHEDULED if row.enabled_from is not None else DISABLED


def shown(row: Any) -> ProvisioningSettings:
    """Return the settings of an application as the API shows them."""
    schedule = row.reconcile_schedule
    return ProvisioningSettings(
        enabled=row.enabled,
        create_accounts=row.create_accounts,
        update_accounts=row.update_accounts,
        adopt_by=row.adopt_by or [],
        adopt_groups=row.adopt_groups,
        unlinked_accounts=row.unlinked_accounts,
        approve_tasks=row.approve_tasks,
        origin_attribute=row.origin_attribute or "",
        on_losing_access=row.on_losing_access,
        on_inactive=row.on_inactive,
        on_leaving=row.on_leaving,
        max_concurrency=row.max_concurrency,
        attributes=row.attributes or [],
        role_encoding=RoleEncoding(**(row.role_encoding or {})).document(),
        plan_encoding=plans_as_of(row).document(),
        provisioned_groups={"source": None, "pattern": None} | (row.provisioned_groups or NO_GROUPS_AT_ALL),
        rate_limit=row.rate_limit or 0,
        reconcile_schedule=schedule or "",
        reconcile_schedule_words=schedules.in_words(schedule) if schedule else "",
        reconcile_next_at=row.reconcile_next_at,
        reconcile_times=schedules.next_times(schedule, clock.now()) if schedule else [],
    )


def checked(connection: Connection, row: Any, settings: dict[str, Any]) -> dict[str, Any]:
    """Return settings as they are stored; None keeps a value.

    Raises:
        InvalidInput: for a wrong value, with its field.
    """
    values = {name: value for name, value in settings.items() if value is not None}
    _check_values(values)
    if values.get("enabled") and row.tracked_only:
        raise InvalidInput(
            f"'{row.label}' is tracked only.", "Turn off `tracked_only` to enable provisioning.", "enabled"
        )
    if "enabled" in values and values["enabled"] != row.enabled:
        # Enabled is enabled for everyone; a pilot and a start time are set with the status.
        values |= {"pilot_group_id": None, "enabled_from": None}
    if "attributes" in values:
        values["attributes"] = _attributes(values["attributes"]) or None
    if "adopt_by" in values:
        values["adopt_by"] = read_adopt_by(values["adopt_by"]) or None
    if "origin_attribute" in values:
        values["origin_attribute"] = values["origin_attribute"].strip() or None
    origin = values.get("origin_attribute", row.origin_attribute)
    if origin is not None:
        mapped = values.get("attributes", row.attributes) or ()
        check_origin(origin, [each["attribute"] for each in mapped])
    if "role_encoding" in values:
        values["role_encoding"] = _carried_as(
            values["role_encoding"], "role_encoding", attribute_mapping.PLAIN
        )
    if "plan_encoding" in values:
        values["plan_encoding"] = _carried_as(values["plan_encoding"], "plan_encoding", PLAN_PLAIN)
        if values["plan_encoding"] and values["plan_encoding"]["way"] == attribute_mapping.GROUPS:
            raise InvalidInput(
                "License plans cannot be sent as groups.",
                "Use roles, entitlements, attribute or nothing.",
                "plan_encoding",
            )
    if "provisioned_groups" in values:
        values["provisioned_groups"] = _groups_over(connection, values["provisioned_groups"])
    if "rate_limit" in values:
        values["rate_limit"] = values["rate_limit"] or None
    if "reconcile_schedule" in values:
        values["reconcile_schedule"] = values["reconcile_schedule"].strip() or None
        values["reconcile_next_at"] = (
            schedules.next_time(values["reconcile_schedule"], clock.now())
            if values["reconcile_schedule"]
            else None
        )
    return values


def _check_values(values: dict[str, Any]) -> None:
    for name, value in values.items():
        if name.startswith("on_") and value not in LEAVING:
            raise InvalidInput(
                f"'{value}' is not a valid value for '{name}'.", f"Use one of: {', '.join(LEAVING)}.", name
            )
        if name == "unlinked_accounts" and value not in POLICIES:
            raise InvalidInput(
                f"'{value}' is not a valid policy for accounts without a user.",
                f"Use one of: {', '.join(POLICIES)}.",
                name,
            )
        if name == "max_concurrency" and not 1 <= value <= 32:
            raise InvalidInput(
                "The number of concurrent requests must be between 1 and 32.",
                "Set `max_concurrency` to a number in this range.",
                name,
            )
        if name == "rate_limit" and not 0 <= value <= 1_000:
            raise InvalidInput(
                "The rate limit must be at most 1,000 requests per second.",
                "Set `rate_limit` to 1 to 1,000, or to 0 for no limit.",
                name,
            )


def _attributes(rows: list[dict[str, str]]) -> list[dict[str, str]]:
    seen: set[str] = set()
    kept = []
    for each in rows:
        attribute, expression = each["attribute"].strip(), each["expression"]
        read_target(attribute)
        if attribute.lower() in seen:
            raise InvalidInput(f"'{attribute}' has two expressions.", "Delete one of them.", "attributes")
        seen.add(attribute.lower())
        if expression.strip():
            compile_expression(expression)
        elif attribute.lower() in ("username", "externalid"):
            raise InvalidInput(
                f"'{attribute}' cannot be empty.", "Enter an expression, or delete the row.", "attributes"
            )
        kept.append({"attribute": attribute, "expression": expression})
    return kept


def _carried_as(given: dict[str, Any], field: str, usual: RoleEncoding) -> dict[str, Any] | None:
    """Return how roles or plans are sent, as it is stored; None for the default."""
    how, what = RoleEncoding(**given), "Roles" if field == "role_encoding" else "Plans"
    for value, allowed, name in (
        (how.way, attribute_mapping.WAYS, "way"),
        (how.which, ("all", "highest"), "which"),
        (how.shape, attribute_mapping.SHAPES, "shape"),
        (how.value, ("key", "label"), "value"),
    ):
        if value not in allowed:
            raise InvalidInput(
                f"'{value}' is not a valid value for `{name}` of {what}.",
                f"Use one of: {', '.join(allowed)}.",
                field,
            )
    if how.way == attribute_mapping.ATTRIBUTE:
        if not how.attribute:
            raise InvalidInput(
                f"The attribute for the {what.lower()} is missing.",
                "Enter an attribute, such as userType.",
                field,
            )
        read_target(how.attribute)
    else:
        how = replace(how, attribute=None)
    return None if how == usual else how.document()


def _groups_over(connection: Connection, given: dict[str, Any]) -> dict[str, Any] | None:
    which = given.get("which", NO_GROUPS)
    if which == NO_GROUPS:
        return None
    if which == GIVING_ROLES:
        return {"which": which, "groups": []}
    if which == BY_PATTERN:
        return _groups_by_pattern(connection, given)
    if which != CHOSEN:
        raise InvalidInput(
            f"'{which}' is not a valid value for `which`.",
            f"Use {NO_GROUPS}, {GIVING_ROLES}, {CHOSEN} or {BY_PATTERN}.",
            "provisioned_groups",
        )
    kept = []
    for each in given.get("groups") or []:
        if group_queries.group(connection, each["group"]) is None:
            raise InvalidInput(
                f"There is no group with the ID '{each['group']}'.",
                "Choose a group from the list of groups.",
                "provisioned_groups",
            )
        name = (each.get("name") or "").strip()
        kept.append({"group": each["group"], **({"name": name} if name else {})})
    return {"which": which, "groups": kept}


def _groups_by_pattern(connection: Connection, given: dict[str, Any]) -> dict[str, Any]:
    pattern = (given.get("pattern") or "").strip()
    if not pattern or not given.get("source"):
        raise InvalidInput(
            "A pattern of provisioned groups needs its source.",
            "Enter `pattern`, such as ^plants-, and the key of the `source` of the groups.",
            "provisioned_groups",
        )
    try:
        compiled(pattern)
    except ValueError as wrong:
        raise InvalidInput(
            f"The pattern is invalid: {wrong}.", "Use a pattern such as ^plants-.", "provisioned_groups"
        ) from None
    source = source_by_key(connection, str(given["source"]), "provisioned_groups")
    return {"which": BY_PATTERN, "groups": [], "source": source.key, "pattern": pattern}


def preview(ctx: AppContext, key: str, settings: dict[str, Any]) -> SettingsPreview:
    """Return what changed settings would do to accounts; nothing is changed.

    Returns:
        the result; `whole` says whether all accounts were checked, `users` are the first of those who change.

    Raises:
        InvalidInput, NotFound.
    """
    now = clock.now()
    with ctx.database.reading() as connection:
        row = application_by_key(connection, key)
        values = checked(connection, row, settings)
        catalogue = ctx.catalogue.get(connection)
        changed = _with_settings(connection, catalogue, row, values)
        ids = application_rows.users_with_account_or_access(connection, row.id, MOST_LOOKED_AT + 1)
        found = [
            line
            for line in _lines(connection, ids[:MOST_LOOKED_AT], catalogue, changed, row.id, now)
            if line is not None
        ]
    return SettingsPreview(
        accounts=len(ids),
        changed=len(found),
        whole=len(ids) <= MOST_LOOKED_AT,
        users=found[:MOST_SHOWN],
    )


def _with_settings(
    connection: Connection, catalogue: ConfigSnapshot, row: Application, values: dict[str, Any]
) -> ConfigSnapshot:
    """Return the catalogue as it would be with other settings of one application."""
    after = replace(row, **values)
    application = replace(catalogue.applications[row.id], settings=settings_of(after))
    provisioned = {**catalogue.provisioned, row.id: provisioned_groups(connection, after, catalogue.by_group)}
    return replace(
        catalogue, applications={**catalogue.applications, row.id: application}, provisioned=provisioned
    )


def _lines(
    connection: Connection,
    ids: list[str],
    catalogue: ConfigSnapshot,
    changed: ConfigSnapshot,
    application_id: str,
    now: Instant,
) -> Iterator[SettingsPreviewUser]:
    for start in range(0, len(ids), user_snapshots.CHUNK):
        for user in user_snapshots.users(connection, ids[start : start + user_snapshots.CHUNK]).values():
            held = next(
                (account for account in user.accounts if account.application_id == application_id), None
            )
            # Changes that are due with the current settings are not effects of this change.
            before = _due(plan_user(user, catalogue, now), application_id) or (held.desired if held else None)
            outcome = plan_user(user, changed, now)
            after = _due(outcome, application_id) or (held.desired if held else None)
            if before != after and after is not None:
                yield SettingsPreviewUser(
                    user=attributes_ref(user.user_id, outcome.merged.attributes),
                    before=describe(before) if before else "no account",
                    after=after.get("problem") or describe(after),
                    changes=account_changes(before, after),
                )


def _due(outcome: Any, application_id: str) -> Any:
    return next(
        (change.desired for change in outcome.accounts if change.application_id == application_id), None
    )


def account_changes(before: Any, after: Any) -> list[ChangedAttribute]:
    """Return the attributes in which two desired accounts differ, as they are sent."""
    if not before or before["want"] != PRESENT or after["want"] != PRESENT:
        return []
    old, new = scim_body(before), scim_body(after)
    found = []
    for operation in differences(old, new):
        path = operation["path"]
        name, part = _split(path)
        was = (old.get(name) or {}).get(part) if part else old.get(name)
        found.append(ChangedAttribute(attribute=path, before=was, after=operation.get("value")))
    if before.get(MANAGER) != after.get(MANAGER):
        named = [due.get(MANAGER, {}).get("value") for due in (before, after)]
        found.append(ChangedAttribute(attribute=MANAGER, before=named[0], after=named[1]))
    if before.get("groups", []) != after.get("groups", []):
        found.append(
            ChangedAttribute(
                attribute="groups",
                before=len(before.get("groups", [])),
                after=len(after.get("groups", [])),
            )
        )
    return found


def _split(path: str) -> tuple[str, str | None]:
    if path.startswith("urn:"):
        urn, _, part = path.rpartition(":")
        return urn, part
    name, _, part = path.partition(".")
    return name, part or None
