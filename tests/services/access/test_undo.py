"""What the audit log tells of is undone, with its own preview."""

from __future__ import annotations

from typing import Any

import pytest

from dravo.core.errors import AlreadyExists, InvalidInput, NotFound
from dravo.services import settings
from dravo.services.access import assignments, undo
from dravo.services.access import policies as access_policies
from dravo.services.access.assignment_changes import AssignmentEdit
from dravo.services.access.assignment_targets import AssignmentRequest
from dravo.services.changes import recompute
from dravo.services.changes.preview import UNCONFIRMED, Confirmation
from dravo.services.changes.removal_limits import NeedsConfirmation
from dravo.store import tables as t
from tests.service_fixture import ServiceFixture


@pytest.fixture
def garden(services: ServiceFixture) -> dict[str, Any]:
    staff = services.source()
    services.application("records", "viewer", "curator")
    users = [services.user(staff, name) for name in ("ada", "bob")]
    return {"staff": staff, "group": services.group(staff, "Guides", *users)}


def last(services: ServiceFixture) -> int:
    return int(services.rows(t.audit)[-1].id)


def has(services: ServiceFixture) -> list[str]:
    recompute.process_marks(services.ctx)
    key_of = {row.id: row.key for row in services.rows(t.role)}
    return sorted(key_of[row.role_id] for row in services.rows(t.access) if row.until_at is None)


def test_each_change_is_taken_back_and_that_too(services: ServiceFixture, garden: dict[str, Any]) -> None:
    made = assignments.add(
        services.ctx,
        services.caller,
        AssignmentRequest("records", "viewer", group=garden["group"], note="First"),
    )
    added = last(services)
    assert has(services) == ["viewer", "viewer"]
    assert undo.preview(services.ctx, added).lost == 2
    undo.undo(services.ctx, services.caller, added, UNCONFIRMED)
    assert has(services) == []
    removed = last(services)
    assert undo.preview(services.ctx, removed).gained == 2
    undo.undo(services.ctx, services.caller, removed, UNCONFIRMED)
    assert has(services) == ["viewer", "viewer"]
    again = next(row for row in services.rows(t.assignment) if row.removed_at is None)
    assert (again.note, again.id != made.id) == ("First", True)
    with pytest.raises(AlreadyExists):
        undo.undo(services.ctx, services.caller, removed, UNCONFIRMED)
    with pytest.raises(NotFound):
        undo.undo(services.ctx, services.caller, added, UNCONFIRMED)
    assignments.change(
        services.ctx, services.caller, again.id, AssignmentEdit(from_="2999-01-01", note="Later")
    )
    assert has(services) == []
    changed = last(services)
    assert undo.preview(services.ctx, changed).gained == 2
    undo.undo(services.ctx, services.caller, changed, UNCONFIRMED)
    assert has(services) == ["viewer", "viewer"]
    assert assignments.one(services.ctx, again.id).note == "First"


def test_a_policy_is_taken_back(services: ServiceFixture, garden: dict[str, Any]) -> None:
    access_policies.change(
        services.ctx,
        services.caller,
        "records",
        {"eligibility": "everyone", "fallback": "fallback_role", "fallback_role": "viewer"},
    )
    assert has(services) == ["viewer", "viewer"]
    assert undo.preview(services.ctx, last(services)).lost == 2
    undo.undo(services.ctx, services.caller, last(services), UNCONFIRMED)
    assert has(services) == []


def test_a_serious_one_asks_for_the_name(services: ServiceFixture, garden: dict[str, Any]) -> None:
    assignments.add(
        services.ctx, services.caller, AssignmentRequest("records", "viewer", group=garden["group"])
    )
    entry = last(services)
    settings.change(services.ctx, services.caller, "removal_limit_minimum", 1)
    with pytest.raises(NeedsConfirmation):
        undo.undo(services.ctx, services.caller, entry, UNCONFIRMED)
    undo.undo(services.ctx, services.caller, entry, Confirmation("Records", (0, 2, 0)))
    assert has(services) == []


def test_changes_without_undo_are_explained(services: ServiceFixture, garden: dict[str, Any]) -> None:
    with pytest.raises(InvalidInput, match="cannot be undone") as told:
        undo.preview(services.ctx, 1)
    assert told.value.hint
    with pytest.raises(NotFound):
        undo.preview(services.ctx, 10_000)
