"""Two users side by side, groups against applications, and many mapped by an attribute's values."""

from __future__ import annotations

import pytest

from dravo.core.errors import InvalidInput, NotFound
from dravo.services.access import assignments
from dravo.services.access import comparison as access_comparison
from dravo.services.access import mapping as role_mapping
from dravo.services.access import matrix as access_matrix
from dravo.services.access.assignment_targets import AssignmentRequest
from dravo.services.applications import applications
from dravo.services.changes.recompute import process_marks
from dravo.services.reporting import overview
from dravo.store.pagination import PageRequest
from dravo.store.queries.references import KeyAndLabel
from tests.service_fixture import ServiceFixture

ENTERPRISE = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"


@pytest.fixture
def garden(services: ServiceFixture) -> ServiceFixture:
    staff = services.source()
    for key in ("desk", "records"):
        services.application(key)
    ada, bob = (
        services.user(
            staff, name, displayName=name.title(), **{ENTERPRISE: {"department": 'The "Seed" Bank'}}
        )
        for name in ("ada", "bob")
    )
    herbarium = services.group(staff, "Herbarium", ada, bob)
    services.group(staff, "Curators", ada)
    services.group(staff, "Night shift")
    assignments.add(services.ctx, services.caller, AssignmentRequest("records", "viewer", group=herbarium))
    assignments.add(
        services.ctx, services.caller, AssignmentRequest("desk", "viewer", source="staff", group="curators")
    )
    assignments.add(
        services.ctx, services.caller, AssignmentRequest("desk", None, group=herbarium, excludes=True)
    )
    assignments.add(services.ctx, services.caller, AssignmentRequest("records", "curator", user="bob"))
    process_marks(services.ctx)
    return services


def test_two_users_are_put_side_by_side_with_what_differs_first(garden: ServiceFixture) -> None:
    found = access_comparison.compare(garden.ctx, "ada", "bob")
    assert [each.user_name for each in found.users] == ["ada", "bob"]
    assert [(each.application.key, each.same) for each in found.applications] == [("records", False)]
    one, two = found.applications[0].sides
    assert [(each.role, each.because) for each in one] == [("Viewer", ["Staff > Herbarium"])]
    assert {(each.role, *each.because) for each in two} == {
        ("Viewer", "Staff > Herbarium"),
        ("Curator", "direct assignment"),
    }
    assert [(each.group.name, each.sides) for each in found.groups] == [
        ("Curators", [True, False]),
        ("Herbarium", [True, True]),
    ]
    assert access_comparison.compare(garden.ctx, "ada", "ada").applications[0].same is True
    with pytest.raises(NotFound):
        access_comparison.compare(garden.ctx, "ada", "nobody")


def test_the_group_matrix_shows_assigned_roles(garden: ServiceFixture) -> None:
    shown = access_matrix.groups(garden.ctx, PageRequest())
    assert {each.name: each.roles for each in shown.items} == {
        "Curators": {"desk": ["Viewer"]},
        "Herbarium": {"records": ["Viewer"], "desk": ["excluded"]},
    }
    assert [each.key for each in shown.applications] == ["desk", "records"]
    only = access_matrix.groups(garden.ctx, PageRequest(), application="records")
    assert [each.name for each in only.items] == ["Herbarium"] and only.applications == [
        KeyAndLabel("records", "Records")
    ]


def test_a_mapping_row_without_matches_is_counted(garden: ServiceFixture) -> None:
    access = {each.name: each.needs for each in overview.band(garden.ctx).stages}["access"]
    assert (access, applications.one(garden.ctx, "desk").mapping_warnings) == (0, 0)
    assignments.add(
        garden.ctx, garden.caller, AssignmentRequest("desk", "viewer", source="staff", group="Night shift")
    )
    access = {each.name: each.needs for each in overview.band(garden.ctx).stages}["access"]
    assert (
        access,
        applications.one(garden.ctx, "desk").mapping_warnings,
        applications.one(garden.ctx, "records").mapping_warnings,
    ) == (
        1,
        1,
        0,
    )


def test_many_are_mapped_by_the_values_of_an_attribute(garden: ServiceFixture) -> None:
    text = 'user.department\tThe ""Seed"" Bank\tcurator\nstaff\tHerbarium\tviewer\nuser.title\tGuide\tviewer'
    looked = role_mapping.bulk(
        garden.ctx,
        garden.caller,
        "records",
        text.replace('The ""', '"The ""').replace('"" Bank', '"" Bank"'),
        apply=False,
    )
    assert [each.status for each in looked.lines] == ["new", "exists", "new"]
    assert looked.preview.changed == 1
    done = role_mapping.bulk(
        garden.ctx,
        garden.caller,
        "records",
        text.replace('The ""', '"The ""').replace('"" Bank', '"" Bank"'),
        apply=True,
    )
    assert done.done == 2
    rules = {each.rule for each in role_mapping.table(garden.ctx, "records", PageRequest()).items}
    assert 'department eq "The \\"Seed\\" Bank"' in rules and 'title eq "Guide"' in rules
    again = role_mapping.bulk(garden.ctx, garden.caller, "records", "user.title,Guide,viewer", apply=False)
    assert [each.status for each in again.lines] == ["exists"]
    # An attribute is a name, and nothing that would make another condition of it.
    for wrong in ("user.title pr or userName,x,viewer", "user.,x,viewer", "user.nothing,x,viewer"):
        assert (
            role_mapping.bulk(garden.ctx, garden.caller, "records", wrong, apply=False).lines[0].status
            == "invalid"
        )
    with pytest.raises(InvalidInput, match="three values"):
        role_mapping.bulk(garden.ctx, garden.caller, "records", "user.title,viewer", apply=False)
