"""The flow picture is counted when something moved, and says what each person has by which way."""

from __future__ import annotations

from dravo.core.instants import later
from dravo.services.access import assignments
from dravo.services.access.assignment_targets import Wish
from dravo.services.changes.recompute import work_through
from dravo.services.ingest.local import groups as local_groups
from dravo.services.ingest.local.groups import Members
from dravo.services.reporting import access_flow
from dravo.store import clock
from tests.service_fixture import Rooms


def bands(rooms: Rooms) -> dict[tuple[str, str], int]:
    shown = access_flow.shown(rooms.house)
    labels = {node["id"]: node["label"] for node in shown["nodes"]}
    return {(labels[band["from_id"]], labels[band["to_id"]]): band["people"] for band in shown["bands"]}


def test_each_role_of_somebody_is_counted_by_the_way_they_come_to_it(rooms: Rooms) -> None:
    rooms.application("records")
    staff = rooms.source()
    ada, bob, cai = (rooms.person(staff, name) for name in ("ada", "bob", "cai"))
    group = rooms.group(staff, "Herbarium", ada, bob)
    local = local_groups.add(rooms.house, rooms.caller, "Planting")["id"]
    local_groups.change_members(rooms.house, rooms.caller, local, Members(add=("cai",)))
    assert access_flow.shown(rooms.house) == {"at": None, "nodes": [], "bands": []} and cai
    for wish in (Wish("records", "viewer", group=group), Wish("records", "curator", person="ada"), Wish("records", "viewer", group=local)):
        assignments.add(rooms.house, rooms.caller, wish)
    work_through(rooms.house)
    access_flow.count(rooms.house)
    assert bands(rooms) == {
        ("Staff", "Herbarium"): 2, ("Staff", "Planting"): 1, ("Staff", "by name"): 1, ("Herbarium", "Viewer"): 2, ("Planting", "Viewer"): 1,
        ("by name", "Curator"): 1, ("Viewer", "Records"): 3, ("Curator", "Records"): 1,
    }  # fmt: skip
    places = {node["label"]: (node["kind"], node["key"], node["application"]) for node in access_flow.shown(rooms.house)["nodes"]}
    assert places["Herbarium"] == ("group", group, None) and places["Viewer"] == ("role", "viewer", "records")
    # Counted anew once something moved, and not before.
    soon = later(clock.now(), 60)
    assert not access_flow.is_due(rooms.house, soon)
    rooms.take_out(staff, group, bob)
    work_through(rooms.house)
    assert access_flow.is_due(rooms.house, soon) and not access_flow.is_due(rooms.house, clock.now())
    access_flow.count(rooms.house)
    assert bands(rooms)["Staff", "Herbarium"] == 1
