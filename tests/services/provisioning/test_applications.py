from __future__ import annotations

from collections.abc import Callable

import pytest

from dravo.core.errors import AlreadyThere, DravoError, InvalidInput, NotFound, StillInUse
from dravo.services.access import assignments
from dravo.services.access import explanation as access_explanation
from dravo.services.access.assignment_targets import Wish
from dravo.services.provisioning import applications, connections, roles
from dravo.services.security import audit_log
from dravo.store import tables as t
from dravo.store.pagination import Ask
from tests.service_fixture import Rooms

URL = "http://127.0.0.1:9/scim/v2"


def test_an_application_is_half_finished_until_all_is_there(rooms: Rooms) -> None:
    rooms.application()
    assert applications.one(rooms.house, "records")["state"] == "not connected"
    connections.connect(rooms.house, rooms.caller, "records", URL, " token \n")
    assert applications.one(rooms.house, "records")["state"] == "switched off"
    applications.change(rooms.house, rooms.caller, "records", {}, {"switched_on": True})
    assert applications.one(rooms.house, "records")["state"] == "working"
    connections.pause(rooms.house, rooms.caller, "records", paused=True)
    paused = applications.one(rooms.house, "records")
    assert (paused["state"], paused["trouble"]) == ("paused", "Paused by the command line.")
    assert connections.pause(rooms.house, rooms.caller, "records", paused=False)["state"] == "working"


def test_a_secret_is_kept_encrypted_and_stays_with_its_host(rooms: Rooms) -> None:
    rooms.application()
    with pytest.raises(InvalidInput, match="token"):
        connections.connect(rooms.house, rooms.caller, "records", URL, None)
    connections.connect(rooms.house, rooms.caller, "records", URL, "first")
    kept = rooms.rows(t.application)[0].secret
    assert "first" not in kept
    assert rooms.house.keys.decrypt(kept) == "first"
    connections.connect(rooms.house, rooms.caller, "records", URL + "/other", None)
    assert rooms.rows(t.application)[0].secret == kept
    for elsewhere in ("http://127.0.0.1:10/scim/v2", "https://127.0.0.1:9/scim/v2", "http://localhost:9/scim/v2"):
        with pytest.raises(InvalidInput, match="token"):
            connections.connect(rooms.house, rooms.caller, "records", elsewhere, None)
    assert rooms.rows(t.application)[0].base_url == URL + "/other"


@pytest.mark.parametrize(
    ("doing", "kind", "words"),
    [
        (lambda r: applications.add(r.house, r.caller, "records", "Twice", None, tracked_only=False), AlreadyThere, "already"),
        (lambda r: roles.add_role(r.house, r.caller, "records", "viewer", "Twice", 1), AlreadyThere, "already"),
        (lambda r: roles.add_role(r.house, r.caller, "records", "Bad Key", "x", 1), InvalidInput, "cannot be a key"),
        (lambda r: applications.change(r.house, r.caller, "records", {}, {"on_gone": "explode"}), InvalidInput, "not a setting"),
        (lambda r: applications.change(r.house, r.caller, "records", {}, {"at_a_time": 99}), InvalidInput, "Between 1 and 32"),
        (lambda r: applications.change(r.house, r.caller, "records", {"label": " "}, {}), InvalidInput, "between 1 and 200"),
        (lambda r: applications.change(r.house, r.caller, "none", {"label": "x"}, {}), NotFound, "no application"),
        (lambda r: connections.check(r.house, r.caller, "records"), InvalidInput, "not connected"),
        (lambda r: applications.remove(r.house, r.caller, "records", "records"), InvalidInput, "history"),
        (lambda r: roles.remove_role(r.house, r.caller, "records", "none"), NotFound, "no role"),
    ],
)
def test_what_cannot_be_done_is_told_with_the_mend(rooms: Rooms, doing: Callable[[Rooms], object], kind: type[DravoError], words: str) -> None:
    rooms.application()
    before = len(rooms.rows(t.audit))
    with pytest.raises(kind, match=words) as told:
        doing(rooms)
    assert told.value.mend
    assert len(rooms.rows(t.audit)) == before


def test_removing_an_application_takes_its_history_and_nothing_else(rooms: Rooms) -> None:
    staff = rooms.source()
    rooms.person(staff, "ada")
    for key in ("records", "desk"):
        rooms.application(key)
        made = assignments.add(rooms.house, rooms.caller, Wish(key, "viewer", person="ada"))
        if key == "records":
            with pytest.raises(StillInUse, match="assignments"):
                applications.remove(rooms.house, rooms.caller, key, "Records")
            assignments.remove(rooms.house, rooms.caller, made["id"])
            with pytest.raises(StillInUse, match="deliveries"):
                applications.remove(rooms.house, rooms.caller, key, "Records")
    with rooms.house.database.writing() as connection:
        connection.execute(t.delivery.update().where(t.delivery.c.state == "waiting").values(state="done", closed_at="x"))
    applications.remove(rooms.house, rooms.caller, "records", "Records")
    assert [row.key for row in rooms.rows(t.application)] == ["desk"]
    assert {item["application"]["key"] for item in access_explanation.person(rooms.house, "ada")["access"]} == {"desk"}


def test_a_role_s_new_label_and_rank_reach_the_accounts(rooms: Rooms) -> None:
    rooms.application()
    rooms.person(rooms.source(), "ada")
    for role in ("viewer", "curator"):
        assignments.add(rooms.house, rooms.caller, Wish("records", role, person="ada"))
    roles.change_role(rooms.house, rooms.caller, "records", "viewer", "Reader", 99)
    due = rooms.rows(t.account)[0].due
    assert [(role["value"], role["display"], role["primary"]) for role in due["roles"]] == [
        ("viewer", "Reader", True), ("curator", "Curator", False),
    ]  # fmt: skip


def test_every_change_is_in_the_log_with_before_and_after(rooms: Rooms) -> None:
    rooms.application()
    applications.change(rooms.house, rooms.caller, "records", {}, {"on_gone": "delete"})
    applications.change(rooms.house, rooms.caller, "records", {}, {"on_gone": "delete"})
    with rooms.house.database.reading() as connection:
        entries = audit_log.entries(connection, Ask())["items"]
    assert [entry["action"] for entry in entries[:2]] == ["changed application", "added role"], "what changes nothing is not logged"
    assert entries[0]["details"]["before"] == {"on_gone": "deactivate"}
    assert entries[0]["details"]["after"] == {"on_gone": "delete"}


@pytest.mark.parametrize("damage", ["details", "operator_name", "removed", "personal", "hmac"])
def test_any_damage_to_the_log_is_found(rooms: Rooms, damage: str) -> None:
    rooms.application()
    rooms.person(rooms.source(), "ada")
    assignments.add(rooms.house, rooms.caller, Wish("records", "viewer", person="ada"))
    rows = rooms.rows(t.audit)
    victim = rows[-1] if damage == "personal" else rows[2]
    with rooms.house.database.writing() as connection:
        if damage == "removed":
            connection.execute(t.audit.delete().where(t.audit.c.id == victim.id))
        else:
            value = {"other": 1} if damage in ("details", "personal") else "x"
            connection.execute(t.audit.update().where(t.audit.c.id == victim.id).values({damage: value}))
    with rooms.house.database.reading() as connection:
        found = audit_log.verify_chain(connection, rooms.house.keys)
    assert found == (rows[3].id if damage == "removed" else victim.id)


def test_a_person_can_be_erased_from_the_log_without_breaking_the_chain(rooms: Rooms) -> None:
    rooms.application()
    rooms.person(rooms.source(), "ada", displayName="Ada Fern")
    assignments.add(rooms.house, rooms.caller, Wish("records", "viewer", person="ada"))
    entry = rooms.rows(t.audit)[-1]
    assert entry.personal == {"person": "Ada Fern"}
    assert "Ada" not in str(entry.details)
    with rooms.house.database.writing() as connection:
        connection.execute(t.audit.update().where(t.audit.c.id == entry.id).values(personal=None))
    with rooms.house.database.reading() as connection:
        assert audit_log.verify_chain(connection, rooms.house.keys) is None
