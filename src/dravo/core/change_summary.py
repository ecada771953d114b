"""The effects of a change, stored with its request and shown to operators."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from dravo.core.identity.records import display_name
from dravo.core.plan_types import ConfigSnapshot, UserPlan
from dravo.core.provisioning.accounts import describe

MOST_SHOWN = 50


def effects(outcomes: Sequence[UserPlan], catalogue: ConfigSnapshot) -> dict[str, Any]:
    """Return which users gained and lost access, and which accounts change.

    Returns:
        {"users": [{"id", "name", "gained": [role, ...], "lost": [...], "accounts": [[application, desired
            state], ...]}], "more": how many further users}; only users with a change.
    """
    touched = [outcome for outcome in outcomes if outcome.access or outcome.accounts]
    shown = [_of_user(outcome, catalogue) for outcome in touched[:MOST_SHOWN]]
    return {"users": shown, "more": max(len(touched) - MOST_SHOWN, 0)}


def _of_user(outcome: UserPlan, catalogue: ConfigSnapshot) -> dict[str, Any]:
    def role(application_id: str, role_id: str) -> str:
        return f"{catalogue.roles[role_id].label} in {catalogue.applications[application_id].label}"

    return {
        "id": outcome.user.user_id,
        "name": display_name(outcome.merged.attributes),
        "gained": [role(each.application_id, each.role_id) for each in outcome.access if each.id is None],
        "lost": [role(each.application_id, each.role_id) for each in outcome.access if each.closed],
        "accounts": [
            [catalogue.applications[each.application_id].label, describe(each.desired)]
            for each in outcome.accounts
        ],
    }


def changed_attributes(before: Mapping[str, Any], after: Mapping[str, Any]) -> list[str]:
    """Return the names of the attributes in which two resources differ; of extensions those of their
    attributes.
    """
    found: list[str] = []
    for name in dict.fromkeys([*before, *after]):
        if before.get(name) == after.get(name):
            continue
        found += (
            changed_attributes(before.get(name) or {}, after.get(name) or {})
            if name.startswith("urn:")
            else [name]
        )
    return found
