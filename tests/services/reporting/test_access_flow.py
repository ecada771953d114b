"""The flow picture is counted when something moved, and says what each user has by which way."""

from __future__ import annotations

from dravo.core.instants import later
from dravo.services.access import assignments, policies
from dravo.services.access.assignment_targets import AssignmentRequest
from dravo.services.changes.recompute import process_marks
from dravo.services.ingest.local import groups as local_groups
from dravo.services.ingest.local.groups import Members
from dravo.services.reporting import access_flow
from dravo.store import clock
from tests.service_fixture import ServiceFixture


def bands(services: ServiceFixture) -> dict[tuple[str, str], int]:
    shown = access_flow.shown(services.ctx)
    labels = {node.id: node.label for node in shown.nodes}
    return {(labels[band["from_id"]], labels[band["to_id"]]): band["users"] for band in shown.bands}


def test_each_role_is_counted_by_its_path(services: ServiceFixture) -> None:
    services.application("records")
    staff = services.source()
    ada, bob, cai = (services.user(staff, name) for name in ("ada", "bob", "cai"))
    group = services.group(staff, "Herbarium", ada, bob)
    local = local_groups.add(services.ctx, services.caller, "Planting").id
    local_groups.change_members(services.ctx, services.caller, local, Members(add=("cai",)))
    assert access_flow.shown(services.ctx) == access_flow.Flow(None, [], []) and cai
    for wish in (
        AssignmentRequest("records", "viewer", group=group),
        AssignmentRequest("records", "curator", user="ada"),
        AssignmentRequest("records", "viewer", group=local),
    ):
        assignments.add(services.ctx, services.caller, wish)
    process_marks(services.ctx)
    access_flow.count(services.ctx)
    assert bands(services) == {
        ("Staff", "Herbarium"): 2,
        ("Staff", "Planting"): 1,
        ("Staff", "direct assignment"): 1,
        ("Herbarium", "Viewer"): 2,
        ("Planting", "Viewer"): 1,
        ("direct assignment", "Curator"): 1,
        ("Viewer", "Records"): 3,
        ("Curator", "Records"): 1,
    }
    places = {
        node.label: (node.kind, node.key, node.application) for node in access_flow.shown(services.ctx).nodes
    }
    assert places["Herbarium"] == ("group", group, None) and places["Viewer"] == ("role", "viewer", "records")
    # Counted again once something moved, and not before.
    soon = later(clock.now(), 60)
    assert not access_flow.is_due(services.ctx, soon)
    services.take_out(staff, group, bob)
    process_marks(services.ctx)
    assert access_flow.is_due(services.ctx, soon) and not access_flow.is_due(services.ctx, clock.now())
    access_flow.count(services.ctx)
    assert bands(services)["Staff", "Herbarium"] == 1


def test_a_retained_role_is_called_so(services: ServiceFixture) -> None:
    services.application("records")
    staff = services.source()
    services.user(staff, "ada")
    made = assignments.add(services.ctx, services.caller, AssignmentRequest("records", "viewer", user="ada"))
    policies.change(
        services.ctx, services.caller, "records", {"eligibility": "everyone", "fallback": "retain"}
    )
    assignments.remove(services.ctx, services.caller, made.id)
    process_marks(services.ctx)
    access_flow.count(services.ctx)
    assert bands(services)["Staff", "retained role"] == 1
