"""Simulates a user who does not exist: from attributes and groups to roles; nothing is changed."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from dravo.core.access.reasons import chain
from dravo.core.errors import InvalidInput
from dravo.core.identity.records import INBOUND_SCIM, UserRecord
from dravo.core.plan_types import UserSnapshot
from dravo.core.planning import plan_user
from dravo.core.scim.errors import ScimError
from dravo.core.scim.resources import read_resource
from dravo.services.context import AppContext
from dravo.services.lookups import find_group, source_by_key
from dravo.services.sources import schemas as source_schemas
from dravo.store import clock
from dravo.store.queries.references import KeyAndLabel, RoleRef


@dataclass
class SimulatedRole:
    """A role that a simulated user would get."""

    application: KeyAndLabel
    role: RoleRef
    reasons: list[str]
    account: str | None


@dataclass
class SimulatedAccess:
    """The access of a simulated user."""

    active: bool
    items: list[SimulatedRole]


def expect(
    ctx: AppContext, source: str, attributes: Mapping[str, Any], groups: Sequence[str]
) -> SimulatedAccess:
    """Return the roles that a user of a source would get, with their reasons, and the accounts.

    Args:
        source: the key of the source.
        attributes: a SCIM User as the source would send it, such as the body of a trace.
        groups: groups of the source, by name or ID.

    Raises:
        NotFound, InvalidInput: as inbound SCIM would refuse it.
    """
    now = clock.now()
    with ctx.database.reading() as connection:
        row = source_by_key(connection, source, "source")
        shape = source_schemas.of_source(ctx, connection, row.id).user
        try:
            data = read_resource({"userName": "somebody", **attributes}, shape)
        except ScimError as wrong:
            raise InvalidInput(
                wrong.detail, "Enter the attributes as the source would send them.", "attributes"
            ) from None
        named = [find_group(connection, each, source).id for each in groups]
        catalogue = ctx.catalogue.get(connection)
    record = UserRecord("expected", row.id, INBOUND_SCIM, data, "expected")
    outcome = plan_user(UserSnapshot("expected", None, (record,), tuple(named)), catalogue, now)
    due = {change.application_id: change.desired for change in outcome.accounts}
    items = []
    for change in sorted(
        outcome.access,
        key=lambda each: (
            catalogue.applications[each.application_id].label,
            catalogue.roles[each.role_id].order,
        ),
    ):
        application, role = catalogue.applications[change.application_id], catalogue.roles[change.role_id]
        account = due.get(change.application_id)
        items.append(
            SimulatedRole(
                application=KeyAndLabel(application.key, application.label),
                role=RoleRef(role.key, role.label, role.rank),
                reasons=[chain(reason) for reason in change.reasons],
                account=None if account is None else account.get("problem") or "would be created",
            )
        )
    return SimulatedAccess(active=outcome.merged.active, items=items)
