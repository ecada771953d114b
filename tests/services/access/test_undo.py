"""What the audit log tells of is taken back, with its own preview."""

from __future__ import annotations

from typing import Any

import pytest

from dravo.core.errors import AlreadyThere, InvalidInput, NotFound
from dravo.services import settings
from dravo.services.access import assignments, undo
from dravo.services.access import policies as access_policies
from dravo.services.access.assignment_targets import Wish
from dravo.services.changes import recompute
from dravo.services.changes.preview import UNSURE, Sure
from dravo.services.changes.removal_limits import NeedsConfirmation
from dravo.store import tables as t
from tests.service_fixture import Rooms


@pytest.fixture
def garden(rooms: Rooms) -> dict[str, Any]:
    staff = rooms.source()
    rooms.application("records", "viewer", "curator")
    people = [rooms.person(staff, name) for name in ("ada", "bob")]
    return {"staff": staff, "group": rooms.group(staff, "Guides", *people)}


def last(rooms: Rooms) -> int:
    return int(rooms.rows(t.audit)[-1].id)


def has(rooms: Rooms) -> list[str]:
    recompute.work_through(rooms.house)
    key_of = {row.id: row.key for row in rooms.rows(t.role)}
    return sorted(key_of[row.role_id] for row in rooms.rows(t.access) if row.until_at is None)


def test_each_change_is_taken_back_and_that_too(rooms: Rooms, garden: dict[str, Any]) -> None:
    made = assignments.add(rooms.house, rooms.caller, Wish("records", "viewer", group=garden["group"], note="First"))
    added = last(rooms)
    assert has(rooms) == ["viewer", "viewer"]
    assert undo.preview(rooms.house, added)["lost"] == 2
    undo.undo(rooms.house, rooms.caller, added, UNSURE)
    assert has(rooms) == []
    removed = last(rooms)
    assert undo.preview(rooms.house, removed)["gained"] == 2
    undo.undo(rooms.house, rooms.caller, removed, UNSURE)
    assert has(rooms) == ["viewer", "viewer"]
    again = next(row for row in rooms.rows(t.assignment) if row.removed_at is None)
    assert (again.note, again.id != made["id"]) == ("First", True)
    with pytest.raises(AlreadyThere):
        undo.undo(rooms.house, rooms.caller, removed, UNSURE)
    with pytest.raises(NotFound):
        undo.undo(rooms.house, rooms.caller, added, UNSURE)
    assignments.change(rooms.house, rooms.caller, again.id, "2999-01-01", None, "Later")
    assert has(rooms) == []
    changed = last(rooms)
    assert undo.preview(rooms.house, changed)["gained"] == 2
    undo.undo(rooms.house, rooms.caller, changed, UNSURE)
    assert has(rooms) == ["viewer", "viewer"]
    assert assignments.one(rooms.house, again.id)["note"] == "First"


def test_a_policy_is_taken_back(rooms: Rooms, garden: dict[str, Any]) -> None:
    access_policies.change(rooms.house, rooms.caller, "records", {"open_to": "everybody", "if_nothing": "default role", "default_role": "viewer"})
    assert has(rooms) == ["viewer", "viewer"]
    assert undo.preview(rooms.house, last(rooms))["lost"] == 2
    undo.undo(rooms.house, rooms.caller, last(rooms), UNSURE)
    assert has(rooms) == []


def test_a_grave_one_asks_for_the_name(rooms: Rooms, garden: dict[str, Any]) -> None:
    assignments.add(rooms.house, rooms.caller, Wish("records", "viewer", group=garden["group"]))
    entry = last(rooms)
    settings.change(rooms.house, rooms.caller, "guard_least", 1)
    with pytest.raises(NeedsConfirmation):
        undo.undo(rooms.house, rooms.caller, entry, UNSURE)
    undo.undo(rooms.house, rooms.caller, entry, Sure("Records", (0, 2, 0)))
    assert has(rooms) == []


def test_what_cannot_be_taken_back_is_told(rooms: Rooms, garden: dict[str, Any]) -> None:
    with pytest.raises(InvalidInput, match="cannot be taken back") as told:
        undo.preview(rooms.house, 1)
    assert told.value.mend
    with pytest.raises(NotFound):
        undo.preview(rooms.house, 10_000)
